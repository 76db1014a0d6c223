"""What to do first about open flags, and the matters that they are about."""
