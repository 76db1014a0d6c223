"""Levels compared, and what use shows about them."""
