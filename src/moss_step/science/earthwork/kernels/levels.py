"""Kernels: heights inside an outline by steps of height, each cell with the area that lies inside."""

from __future__ import annotations

import numba
import numpy as np


@numba.njit(nogil=True, cache=True)
def gathered(values, shares, areas, low, step, weight, moment):
    """Add to each step of height the area of its cells, and area times height above ``low``."""
    rows, cols = values.shape
    last = weight.size - 1
    for row in range(rows):
        area = areas[row]
        for col in range(cols):
            z, part = np.float64(values[row, col]), shares[row, col]
            if part <= 0.0 or z != z:
                continue
            k = min(max(int((z - low) / step), 0), last)
            weight[k] += part * area
            moment[k] += part * area * (z - low)
