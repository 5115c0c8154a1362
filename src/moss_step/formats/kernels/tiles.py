"""Kernels: grids as files hold them, in tiles."""

from __future__ import annotations

import math

import numba
import numpy as np

from moss_step.model.kernels.blanks import stands_for

NAN = np.float32(np.nan)


@numba.njit(cache=True, nogil=True)
def lay_tile(values, left, no_data, out):
    """Lay a window out in a square tile, from a column on; NaN, and what lies beyond the window, is
    no-data.
    """
    rows, cols = min(values.shape[0], out.shape[0]), min(values.shape[1] - left, out.shape[1])
    if rows < out.shape[0] or cols < out.shape[1]:
        out[:] = no_data
    for i in range(rows):
        row, to = values[i, left : left + cols], out[i, :cols]
        for j in range(cols):
            v = row[j]
            to[j] = v if v == v else no_data


@numba.njit(cache=True, nogil=True)
def pick_tile(tile, top, left, gone, out):
    """Copy a tile whose corner lies at a row and a column of a window, which may be negative; what stands for
    no-data (NaN: nothing does), and what is infinite, becomes NaN. Gives the number of infinite values.
    """
    found = 0
    first, last = max(left, 0), min(left + tile.shape[1], out.shape[1])
    for r in range(max(top, 0), min(top + tile.shape[0], out.shape[0])):
        row, to = tile[r - top, first - left : last - left], out[r, first:last]
        for j in range(last - first):
            v = row[j]
            away = stands_for(v, gone)
            infinite = (abs(v) == math.inf) & (not away)
            found += infinite
            to[j] = NAN if away | infinite else v
    return found
