"""The command-line client, on top of the client library."""
