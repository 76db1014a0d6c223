"""Starting things: configuration, a private PostgreSQL cluster, the web process, the worker, the demo."""
