"""Open Latch: one register of who and what can reach each shared account."""

__version__ = "0.1.0"
