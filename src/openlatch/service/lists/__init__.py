"""Finding: search over everything, filters that are kept, and lists to take away."""
