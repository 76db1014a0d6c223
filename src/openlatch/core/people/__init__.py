"""Telling which person a login is."""
