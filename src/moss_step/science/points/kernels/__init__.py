"""Compiled parts of the work on points."""
