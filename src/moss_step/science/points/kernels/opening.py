"""Kernels: morphological opening of a surface with disks, and smooth filling of its gaps."""

from __future__ import annotations

import numba
import numpy as np


@numba.njit(cache=True, nogil=True)
def _row_extreme(values, half, radius, sign, row, out):
    """One row of ``extreme_over_disk``."""
    rows, cols = values.shape
    for c in range(cols):
        best = -np.inf
        for step in range(max(-radius, -row), min(radius, rows - 1 - row) + 1):
            wide = half[step + radius]
            for k in range(max(c - wide, 0), min(c + wide, cols - 1) + 1):
                best = max(best, sign * values[row + step, k])
        out[row, c] = sign * best


@numba.njit(cache=True, nogil=True, parallel=True)
def extreme_over_disk(values, half, radius, sign, out):
    """Lowest (``sign`` -1) or highest (1) value within a disk around each cell; what lies outside the grid
    counts for nothing. ``half`` is the half width of the disk on each of its 2 ``radius`` + 1 rows.
    """
    for r in numba.prange(values.shape[0]):
        _row_extreme(values, half, radius, sign, np.int64(r), out)  # it may be unsigned


@numba.njit(cache=True, nogil=True)
def smooth_gaps(values, gaps, rounds):
    """Let each cell of a gap take the mean of its neighbours, over and over: the surface that is bent least.

    Gauss-Seidel with over-relaxation; rows and columns are gone through both ways in turn.
    """
    rows, cols = values.shape
    for turn in range(rounds):
        for i in range(rows):
            r = i if turn % 2 == 0 else rows - 1 - i
            for j in range(cols):
                c = j if turn % 2 == 0 else cols - 1 - j
                if not gaps[r, c]:
                    continue
                total, count = 0.0, 0
                if r > 0:
                    total += values[r - 1, c]
                    count += 1
                if r < rows - 1:
                    total += values[r + 1, c]
                    count += 1
                if c > 0:
                    total += values[r, c - 1]
                    count += 1
                if c < cols - 1:
                    total += values[r, c + 1]
                    count += 1
                values[r, c] += 1.6 * (total / count - values[r, c])


@numba.njit(cache=True, nogil=True)
def read_bilinear(values, rows, cols, out):
    """Values between the middles of cells, at fractional rows and columns; at the rim those of the edge."""
    height, width = values.shape
    for k in range(rows.size):
        r = min(max(rows[k], 0.0), height - 1.0)
        c = min(max(cols[k], 0.0), width - 1.0)
        i, j = min(int(r), max(height - 2, 0)), min(int(c), max(width - 2, 0))
        u, v = r - i, c - j
        i2, j2 = min(i + 1, height - 1), min(j + 1, width - 1)
        above = values[i, j] * (1.0 - v) + values[i, j2] * v
        below = values[i2, j] * (1.0 - v) + values[i2, j2] * v
        out[k] = above * (1.0 - u) + below * u
