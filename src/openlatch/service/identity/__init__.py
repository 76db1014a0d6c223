"""Sign-ins: who has one, in which role, and how it is come by, kept and recovered."""
