"""Kernels: putting the cells of a surface in classes, and counting cells and ground area per class."""

from __future__ import annotations

import numba
import numpy as np

from moss_step.model.class_map import NO_CLASS


@numba.njit(cache=True, nogil=True, parallel=True)
def classify_rows(values, bounds, lookup, first, last, out):
    """Code of each cell: its place among the bounds (twice the bounds below it, plus one on a bound) looked
    up.
    """
    cols = values.shape[1]
    for r in numba.prange(first, last):
        place = np.zeros(cols, np.uint16)
        row = values[r]
        for k in range(bounds.size):
            b = bounds[k]
            for j in range(cols):
                place[j] += np.uint16(row[j] > b) + np.uint16(row[j] >= b)
        for j in range(cols):
            out[r, j] = lookup[place[j]] if row[j] == row[j] else np.uint8(NO_CLASS)


@numba.njit(cache=True, nogil=True, parallel=True)
def count_rows(codes, row_areas, counts, areas, blocks):
    """Cells and area per code, one row of ``counts`` and ``areas`` for each block of rows."""
    rows, cols = codes.shape
    for b in numba.prange(blocks):
        here = np.zeros((4, 256), np.int64)
        for r in range(b * rows // blocks, (b + 1) * rows // blocks):
            here[:] = 0
            # Four counters side by side: neighbours often hold one class, and one counter would wait for
            # itself.
            for j in range(cols):
                here[j & 3, codes[r, j]] += 1
            for k in range(256):
                n = here[0, k] + here[1, k] + here[2, k] + here[3, k]
                counts[b, k] += n
                areas[b, k] += n * row_areas[r]
