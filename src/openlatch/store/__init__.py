"""Records in PostgreSQL through SQLAlchemy."""
