"""Authorization servers by OAuth 2.0."""
