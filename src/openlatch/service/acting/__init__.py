"""Acting on behalf of others: switching into an account, and the tokens of programs that do."""
