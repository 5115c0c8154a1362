"""Slope, aspect and shading of a ground."""
