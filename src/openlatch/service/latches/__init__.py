"""Latches: which are on, what breaks them, and the guard that every change passes."""
