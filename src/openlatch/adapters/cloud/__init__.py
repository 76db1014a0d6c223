"""Cloud services with a REST API for members, links and shares."""
