"""Importing checked records into the register."""
