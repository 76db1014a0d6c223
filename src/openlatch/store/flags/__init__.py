"""The rules as SQL, the sources of their facts, and the stored flags."""
