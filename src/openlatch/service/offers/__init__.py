"""Offers: what one would say, sending one, and answering it."""
