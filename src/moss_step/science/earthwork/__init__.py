"""Earthwork: what is cut and filled inside outlines, against a base or between two surveys."""
