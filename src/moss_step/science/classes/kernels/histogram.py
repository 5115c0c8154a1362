"""Kernels: histogram of a surface: counts of its values in equal bins."""

from __future__ import annotations

import numba


@numba.njit(cache=True, nogil=True, parallel=True)
def count_bins(values, low, scale, counts, blocks):
    """Counts in equal bins, one row of ``counts`` for each block of rows; values outside fall in no bin."""
    rows, cols = values.shape
    bins = counts.shape[1]
    for b in numba.prange(blocks):
        for r in range(b * rows // blocks, (b + 1) * rows // blocks):
            for j in range(cols):
                place = (values[r, j] - low) * scale
                if place >= 0.0 and place <= bins:
                    counts[b, min(int(place), bins - 1)] += 1
