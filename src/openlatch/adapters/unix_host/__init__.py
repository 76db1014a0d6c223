"""A Unix host: its logins, groups, sudo rules, keys, files."""
