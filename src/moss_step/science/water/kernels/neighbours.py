"""Kernels: the eight neighbours of a cell, the distances to them, and what a direction means."""

from __future__ import annotations

from typing import NamedTuple

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


class Filled(NamedTuple):
    """A ground with water: heights (float32), the pool of each cell (int32, 0: none), both of shape (rows,
    cols), and the height of the water by pool (float32).
    """

    z: np.ndarray
    labels: np.ndarray
    level: np.ndarray


class Drained(NamedTuple):
    """A ground and its ways: heights (float32) and directions (uint8) of shape (rows, cols), and distances to
    the neighbours by row, (rows, 3).
    """

    z: np.ndarray
    ways: np.ndarray
    metres: np.ndarray


class Course(NamedTuple):
    """Ways (uint8) of shape (rows, cols), distances to the neighbours by row, (rows, 3), and the cells in an
    order that has each before its receiver.
    """

    ways: np.ndarray
    metres: np.ndarray
    order: np.ndarray


@numba.njit(inline="always", cache=True)
def stands(ground, at):
    """Height of a filled ground at a cell: its own, or that of the water over it; NaN for no-data."""
    v, water = ground.z[at], ground.level[ground.labels[at]]
    return water if water > v else v


@numba.njit(inline="always", cache=True)
def span(metres, r, k):
    """Metres from a cell in a row to its neighbour k."""
    return metres[r, 1] if k & 1 else (metres[r, 2] if k & 2 else metres[r, 0])
