"""Systems: reading them, comparing them with the register, logins, drift."""
