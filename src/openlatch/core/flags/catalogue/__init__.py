"""The rules that there are, by what they are about."""
