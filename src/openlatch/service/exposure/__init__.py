"""What is open to outsiders: rules as they were read, what they come to, what people judge of it, guards and drafts."""
