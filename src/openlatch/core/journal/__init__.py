"""The journal as a chain of entries, the tree over it, and signed heads of that tree."""
