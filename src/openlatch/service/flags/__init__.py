"""Flags: evaluating the rules, handling what they find, and how they are set."""
