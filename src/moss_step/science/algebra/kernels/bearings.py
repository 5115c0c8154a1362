"""Kernels: bearings as directions on a circle: their mean, their spread and what lies between two of them."""

from __future__ import annotations

import numba
import numpy as np


@numba.njit(cache=True, nogil=True, parallel=True)
def add_vectors(bearings, weights, sums):
    """Add up east and north parts of the bearings that point somewhere, and their weights, by blocks; one
    weight counts for all.
    """
    for b in numba.prange(sums.shape[0]):
        for n in range(b * bearings.size // sums.shape[0], (b + 1) * bearings.size // sums.shape[0]):
            v = np.float64(bearings[n])
            if v >= 0:
                w = weights[n] if weights.size > 1 else weights[0]
                sums[b, 0] += w * np.sin(np.radians(v))
                sums[b, 1] += w * np.cos(np.radians(v))
                sums[b, 2] += w
