"""Systems: connecting and reading them, and where they depart from the register."""
