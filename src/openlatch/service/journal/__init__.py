"""The journal: signed tree heads over it, and time stamps."""
