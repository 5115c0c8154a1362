"""Kernels: where the block is looked at from, and the place of the ground under a pixel."""

from __future__ import annotations

import math

import numba
import numpy as np

STEPS = 600


@numba.njit(cache=True, nogil=True)
def height_cells(heights: np.ndarray, extent: tuple[float, float], x: float, y: float) -> float:
    rows, cols = heights.shape
    c, r = math.floor((x / extent[0] + 0.5) * cols), math.floor((0.5 - y / extent[1]) * rows)
    return np.float64(heights[r, c]) if 0 <= r < rows and 0 <= c < cols else np.nan


@numba.njit(cache=True, nogil=True)
def meets(
    heights: np.ndarray, start: np.ndarray, along: np.ndarray, extent: tuple[float, float], far: float
) -> float:
    """Distance along a ray at which it first lies below the ground, -1 where it never does: coarsely, then
    finely before that.
    """
    first, last = 0.0, far
    for _ in range(2):
        step, hit = (last - first) / STEPS, -1.0
        for k in range(STEPS + 1):
            t = first + k * step
            if start[2] + t * along[2] <= height_cells(
                heights, extent, start[0] + t * along[0], start[1] + t * along[1]
            ):
                hit = t
                break
        if hit < 0:
            return -1.0
        first, last = max(hit - step, 0.0), hit
    return last
