"""Who can do what: by which paths, on which day, and after supposed changes."""
