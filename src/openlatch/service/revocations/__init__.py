"""Ending and trimming access: the preview, the plan, its steps, and how each end is known."""
