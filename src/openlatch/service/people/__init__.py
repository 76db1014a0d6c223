"""People as they move on, and what is held about them."""
