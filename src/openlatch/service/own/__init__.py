"""One's own page: what one can reach, who can reach one's accounts, and one's sign-in."""
