"""PostgreSQL: roles, memberships, privileges, row security, sessions."""
