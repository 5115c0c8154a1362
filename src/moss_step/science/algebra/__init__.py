"""Sums over several surfaces: formulas, differences, thresholds, combinations."""
