"""The charter: how an organisation wants its register to be, compared with it and adopted."""
