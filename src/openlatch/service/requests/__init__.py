"""Requests for access, and what an owner makes of them."""
