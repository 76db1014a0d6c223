"""Who can do what: by which paths, on which day, and after changes that are only supposed."""
