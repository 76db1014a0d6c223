"""The use cases. Each is one transaction, asks who may, and writes the journal."""
