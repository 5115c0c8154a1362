"""Kernels: count, range and mean of a grid in one pass."""

from __future__ import annotations

import numba
import numpy as np


@numba.njit(cache=True, nogil=True, parallel=True)
def summarise_cells(values, lows, highs, sums, counts, blocks):
    """Lowest, highest, sum and number of the values that are not NaN, for each block of rows."""
    rows, cols = values.shape
    for b in numba.prange(blocks):
        low, high, total, n = np.inf, -np.inf, 0.0, 0
        for r in range(b * rows // blocks, (b + 1) * rows // blocks):
            for j in range(cols):
                v = values[r, j]
                if v == v:
                    low, high = min(low, v), max(high, v)
                    total += v
                    n += 1
        lows[b], highs[b], sums[b], counts[b] = low, high, total, n
