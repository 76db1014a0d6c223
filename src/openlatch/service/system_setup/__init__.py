"""Connecting systems from the console: tried by the worker before they are kept, their secrets never read again."""
