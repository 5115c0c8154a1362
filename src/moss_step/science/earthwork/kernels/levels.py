"""Kernels: heights inside an outline by steps of height, each cell with the area that lies inside."""

from __future__ import annotations

import numba
import numpy as np

STRIPS = 16
"""Each of so many rows is added up beside the others."""


@numba.njit(parallel=True, nogil=True, cache=True)
def span_inside(values, shares, found):
    """Lowest and highest height (rows, 2) of the cells of each row that lie inside; infinite for none."""
    rows, cols = values.shape
    for row in numba.prange(rows):
        low, high = np.inf, -np.inf
        for col in range(cols):
            z = np.float64(values[row, col])
            if shares[row, col] > 0.0 and z == z:
                low, high = min(low, z), max(high, z)
        found[row, 0], found[row, 1] = low, high


@numba.njit(parallel=True, nogil=True, cache=True)
def gathered(values, shares, areas, first, low, step, weight, moment):
    """Add to each step of height the area of its cells, and area times height above ``low``, every so many
    rows together (strips, steps): the same sums, however many rows from the ``first`` come at a time.
    """
    rows, cols = values.shape
    strips, last = weight.shape[0], weight.shape[1] - 1
    for strip in numba.prange(strips):
        for row in range((strip - first) % strips, rows, strips):
            area = areas[row]
            for col in range(cols):
                z, part = np.float64(values[row, col]), shares[row, col]
                if part <= 0.0 or z != z:
                    continue
                k = min(max(int((z - low) / step), 0), last)
                weight[strip, k] += part * area
                moment[strip, k] += part * area * (z - low)


@numba.njit(nogil=True, cache=True)
def within_step(values, shares, areas, low, step, k, most, heights, parts):
    """Collect height above ``low`` and area of the cells of step ``k``, the last of which is ``most``; gives
    how many there are.
    """
    rows, cols = values.shape
    count, last = 0, heights.size
    start, end = low + (k - 1) * step, low + (k + 2) * step
    for row in range(rows):
        for col in range(cols):
            z = np.float64(values[row, col])
            if z < start or z > end or shares[row, col] <= 0.0:
                continue
            if min(max(int((z - low) / step), 0), most) == k and count < last:
                heights[count], parts[count] = z - low, shares[row, col] * areas[row]
                count += 1
    return count
