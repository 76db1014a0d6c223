"""One's own page: what one reaches, who reaches what is one's own, and how one signs in."""
