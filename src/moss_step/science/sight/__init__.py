"""Sight: what is seen from where, over what, and how high one must stand."""
