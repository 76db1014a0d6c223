"""People: their pages, moves, leaving, and what is stored about them."""
