"""People and teams as a directory keeps them for us (SCIM 2.0, RFC 7643 and 7644)."""
