"""How mail is sent, as an organisation sets it."""
