"""The rules as SQL, where their facts come from, and the flags that are kept."""
