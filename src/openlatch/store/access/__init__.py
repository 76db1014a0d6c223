"""The part of the register that a question about access needs: now, or as it was."""
