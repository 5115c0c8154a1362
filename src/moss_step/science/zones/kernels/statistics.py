"""Kernels: statistics of a surface or class map in areas: cells by their centre, or weighed by how much of
them an area covers.
"""

from __future__ import annotations

import numba
import numpy as np


@numba.njit(cache=True, nogil=True, parallel=True)
def accumulate(ids, values, base, weights, sums):
    """Count, sum, weight, weighted sum, weighted sum of squares, lowest and highest of the values of each
    zone (ids from 1), by blocks.

    Sums are those of values less ``base``, so that small relief on a large base keeps its digits; ``weights``
    are by row.
    """
    count, mass, total, moment, square, low, high = sums
    blocks, rows = count.shape[0], ids.shape[0]
    for b in numba.prange(blocks):
        n, m, s, t, q, lo, hi = count[b], mass[b], total[b], moment[b], square[b], low[b], high[b]
        for r in range(b * rows // blocks, (b + 1) * rows // blocks):
            w = weights[r]
            for c in range(ids.shape[1]):
                k, v = ids[r, c], values[r, c]
                if k > 0 and v == v:
                    d = np.float64(v) - base
                    n[k] += 1.0
                    m[k] += w
                    s[k] += d
                    t[k] += w * d
                    q[k] += w * d * d
                    lo[k] = min(lo[k], v)
                    hi[k] = max(hi[k], v)


@numba.njit(cache=True, nogil=True)
def add_areas(codes, inside, areas, table):
    """Add the area of each cell inside to that of its code; ``areas`` are by row."""
    for r in range(codes.shape[0]):
        for c in range(codes.shape[1]):
            if inside[r, c]:
                table[codes[r, c]] += areas[r]


@numba.njit(cache=True, nogil=True)
def by_zone(ids, values, place, out):
    """Lay the values of each zone side by side, those of a zone from its ``place`` on."""
    for r in range(ids.shape[0]):
        for c in range(ids.shape[1]):
            k, v = ids[r, c] - 1, values[r, c]
            if k >= 0 and v == v:
                out[place[k]] = v
                place[k] += 1
