"""Notices in the console, and mail."""
