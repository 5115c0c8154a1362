"""Kernels: pairs of samples for variograms."""

from __future__ import annotations

import numba
import numpy as np


@numba.njit(cache=True, nogil=True)
def binned(x, y, values, step, longest, along, least_cosine, sums):
    """Add to each lag (m, 3) the number of its pairs, their distances and their squared differences; of
    pairs within an angle of a bearing ``along`` alone, unless it is NaN.
    """
    east, north = np.sin(along), np.cos(along)
    for i in range(x.size):
        for j in range(i + 1, x.size):
            dx, dy = x[j] - x[i], y[j] - y[i]
            h = np.sqrt(dx * dx + dy * dy)
            if h > longest or h == 0.0:
                continue
            if along == along and abs(dx * east + dy * north) < least_cosine * h * (1.0 - 1e-12):
                continue
            k = min(int(h / step), sums.shape[0] - 1)
            d = values[j] - values[i]
            sums[k, 0] += 1.0
            sums[k, 1] += h
            sums[k, 2] += d * d


@numba.njit(cache=True, nogil=True)
def all_pairs(x, y, values, which, out):
    """Fill a row for each pair: distance, bearing below 180 degrees, half of the squared difference, and the
    numbers of both.
    """
    row = 0
    for i in range(x.size):
        for j in range(i + 1, x.size):
            dx, dy = x[j] - x[i], y[j] - y[i]
            d = values[j] - values[i]
            out[row, 0] = np.sqrt(dx * dx + dy * dy)
            out[row, 1] = np.degrees(np.arctan2(dx, dy)) % 180.0
            out[row, 2] = 0.5 * d * d
            out[row, 3], out[row, 4] = which[i], which[j]
            row += 1
