"""Bringing checked records into the register."""
