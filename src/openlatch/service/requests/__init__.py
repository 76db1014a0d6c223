"""Requests for access, and their answers."""
