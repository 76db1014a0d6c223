"""What is open to outsiders: access rules as read, the exposures that follow, judgements, guards and drafts."""
