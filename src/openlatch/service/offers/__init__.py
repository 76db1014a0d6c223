"""Offers: preparing, sending, answering."""
