"""Grounds larger than memory: read in windows, worked out tile by tile, here or by workers elsewhere."""
