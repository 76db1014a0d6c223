"""Background work on procrastinate, a queue in the same PostgreSQL."""
