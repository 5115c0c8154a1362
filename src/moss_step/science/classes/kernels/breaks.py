"""Kernels: class breaks from the values themselves: equal interval, equal count and natural breaks."""

from __future__ import annotations

import numba
import numpy as np

from moss_step.science.kernels.numeric import first_from


@numba.njit(cache=True, nogil=True, parallel=True)
def fill_bins(values, low, scale, base, sums, highest):
    """Count, sum and sum of squares (less ``base``) and highest value of each bin, one row for each block of
    values.
    """
    blocks, most = highest.shape
    for b in numba.prange(blocks):
        for n in range(b * values.size // blocks, (b + 1) * values.size // blocks):
            v = np.float64(values[n])
            if v == v:
                k = min(int((v - low) * scale), most - 1)
                d = v - base
                sums[b, 0, k] += 1.0
                sums[b, 1, k] += d
                sums[b, 2, k] += d * d
                highest[b, k] = max(highest[b, k], v)


@numba.njit(cache=True, nogil=True, parallel=True)
def add_classes(values, inner, base, sums):
    """Add up count, sum and sum of squares (less ``base``) of the values between ascending bounds, those on a
    bound below it; one part of ``sums`` for each block of values.
    """
    blocks = sums.shape[0]
    for b in numba.prange(blocks):
        for n in range(b * values.size // blocks, (b + 1) * values.size // blocks):
            v = np.float64(values[n])
            if v == v:
                k, d = first_from(inner, v, 0, inner.size), v - base
                sums[b, 0, k] += 1.0
                sums[b, 1, k] += d
                sums[b, 2, k] += d * d


@numba.njit(cache=True, nogil=True)
def deviation(cells, total, square, first, last):
    """Squared deviation from their mean of bins ``first`` to ``last``, from running sums with a 0 before
    them.
    """
    n, s = cells[last + 1] - cells[first], total[last + 1] - total[first]
    return max(square[last + 1] - square[first] - s * s / n, 0.0)


@numba.njit(cache=True, nogil=True)
def best_ends(cells, total, square, count):
    """Last bin of each of ``count`` classes whose squared deviations add up to least."""
    n = cells.size
    sums = np.zeros((3, n + 1))
    for k in range(n):
        sums[0, k + 1], sums[1, k + 1], sums[2, k + 1] = (
            sums[0, k] + cells[k],
            sums[1, k] + total[k],
            sums[2, k] + square[k],
        )
    cost, split = np.empty((count, n)), np.zeros((count, n), np.int64)
    for k in range(n):
        cost[0, k] = deviation(sums[0], sums[1], sums[2], 0, k)
    stack = np.empty((64, 4), np.int64)
    for m in range(1, count):
        # Halves of the row, each searched between the splits of its neighbours.
        stack[0, 0], stack[0, 1], stack[0, 2], stack[0, 3], top = m, n - 1, m, n - 1, 1
        while top > 0:
            top -= 1
            first, last, low, high = stack[top]
            if first > last:
                continue
            middle = (first + last) // 2
            best, at = np.inf, low
            for j in range(max(low, m), min(high, middle) + 1):
                c = cost[m - 1, j - 1] + deviation(sums[0], sums[1], sums[2], j, middle)
                if c < best:
                    best, at = c, j
            cost[m, middle], split[m, middle] = best, at
            stack[top, 0], stack[top, 1], stack[top, 2], stack[top, 3] = first, middle - 1, low, at
            stack[top + 1, 0], stack[top + 1, 1], stack[top + 1, 2], stack[top + 1, 3] = (
                middle + 1,
                last,
                at,
                high,
            )
            top += 2
    ends = np.empty(count, np.int64)
    last = n - 1
    for m in range(count - 1, -1, -1):
        ends[m] = last
        last = split[m, last] - 1
    return ends
