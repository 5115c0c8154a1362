"""The catalogue: every operation declared once."""
