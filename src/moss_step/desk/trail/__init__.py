"""The trail: the linked steps along the bottom of the window."""
