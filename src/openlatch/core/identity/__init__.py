"""Passwords."""
