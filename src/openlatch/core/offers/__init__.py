"""What an offer says before it is sent."""
