"""The calls of the API, a room each. They go into the one table of routes."""
