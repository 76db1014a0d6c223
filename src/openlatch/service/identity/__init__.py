"""Sign-ins: who has one, in which role, and how it is obtained, kept and recovered."""
