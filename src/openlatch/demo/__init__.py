"""The demo organisation, as data files and a loader."""
