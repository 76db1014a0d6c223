"""Reading imported files, and writing files for spreadsheets."""
