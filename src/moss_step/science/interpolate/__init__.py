"""Surfaces between places where something was measured: variograms, kriging, neighbours, triangles."""
