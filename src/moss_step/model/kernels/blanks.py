"""Kernels: what stands for no value becomes NaN, in place."""

from __future__ import annotations

import numba
import numpy as np


@numba.njit(cache=True, nogil=True, parallel=True)
def drop_infinite(values):
    """Replace infinite values of a grid by NaN in place; gives their number."""
    found = 0
    for r in numba.prange(values.shape[0]):
        for j in range(values.shape[1]):
            if np.isinf(values[r, j]):
                values[r, j] = np.nan
                found += 1
    return found


NEAR = np.float32(2.0 * 1.1920929e-07)


@numba.njit(inline="always", cache=True)
def stands_for(v, gone):
    """Whether a value is what stands for no-data (NaN: nothing does). Single precision counts as equal within
    two steps, as the raster library has it.
    """
    return (v == gone) | (abs(v - gone) < NEAR * abs(v + gone))


@numba.njit(cache=True, nogil=True, parallel=True)
def drop_value(values, gone):
    """Replace what stands for no-data by NaN in place."""
    for r in numba.prange(values.shape[0]):
        for j in range(values.shape[1]):
            if stands_for(values[r, j], gone):
                values[r, j] = np.nan
