"""The plan: the view from above."""
