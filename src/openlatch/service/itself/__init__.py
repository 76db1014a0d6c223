"""Open Latch as a system of its own register: who signs in to it, in which role, and what programs reach it."""
