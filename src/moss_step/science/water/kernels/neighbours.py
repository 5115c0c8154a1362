"""Kernels: the eight neighbours of a cell, the distances to them, and what a direction means."""

from __future__ import annotations

import numba
import numpy as np

DR = np.array([0, 1, 1, 1, 0, -1, -1, -1], np.int64)
DC = np.array([1, 1, 0, -1, -1, -1, 0, 1], np.int64)
"""Rows and columns to the neighbours from east, clockwise; the opposite of neighbour k is k ^ 4."""
LOWEST = np.array([next((k for k in range(8) if bits >> k & 1), 0) for bits in range(256)], np.int64)
"""Number of the lowest bit of a byte."""
OUT, PIT, NONE = np.uint8(8), np.uint8(9), np.uint8(255)
"""Directions that are no neighbour: water leaves the ground, water stays, and no ground."""
DRY = np.array([-np.inf], np.float32)
"""Levels of a ground without water, all of whose labels are 0."""


@numba.njit(inline="always", cache=True)
def stands(z, labels, level, at):
    """Height of the filled ground at a cell: its own, or that of the water over it; NaN for no-data."""
    v, water = z[at], level[labels[at]]
    return water if water > v else v


@numba.njit(inline="always", cache=True)
def span(metres, r, k):
    """Metres from a cell in a row to its neighbour k."""
    return metres[r, 1] if k & 1 else (metres[r, 2] if k & 2 else metres[r, 0])
