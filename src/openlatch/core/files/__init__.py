"""Files that people and programs bring, and files for spreadsheets."""
