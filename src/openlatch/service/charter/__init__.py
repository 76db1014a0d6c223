"""The charter: what an organisation wants of its register, compared with it and adopted."""
