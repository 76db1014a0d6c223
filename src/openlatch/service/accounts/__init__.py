"""Shared accounts: their pages, their resources, and how access to them is given."""
