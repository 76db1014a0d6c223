"""Ending access: how its end is known."""
