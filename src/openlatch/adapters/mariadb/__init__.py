"""MariaDB servers."""
