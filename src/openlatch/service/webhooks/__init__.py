"""What is journalled, told to receivers outside."""
