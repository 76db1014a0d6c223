"""Who can do what, when, by which path; and what would change that."""
