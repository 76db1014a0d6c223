"""Partner organisations that use the service themselves, and the sign-ins of one human at several organisations."""
