"""Clouds of points: what they hold, ground found among them, grids from them, and what stands on the
ground.
"""
