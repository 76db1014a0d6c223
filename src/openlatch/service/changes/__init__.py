"""Changes to grants, one or many at once."""
