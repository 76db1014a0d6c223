"""Grants: their terms, levels, use, provisioning, and tasks by hand."""
