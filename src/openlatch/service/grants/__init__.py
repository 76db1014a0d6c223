"""Grants as they change: their ends, their terms, and what a person has to do for them in a system."""
