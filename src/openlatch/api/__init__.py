"""The web process: the API, sign-in, the event stream, and the built console."""
