"""Configuration and start-up: a private PostgreSQL cluster, the web process, the worker, the demo."""
