"""Kernels: count, range and mean of a grid in one pass."""

from __future__ import annotations

import numba
import numpy as np

_SIGN, _REST = np.int32(31), np.int32(0x7FFFFFFF)
LOWEST, HIGHEST = np.int32(-(2**31)), np.int32(2**31 - 1)
"""Below and above the order of all values."""


@numba.njit(cache=True, nogil=True, parallel=True, fastmath={"reassoc"})
def summarise_cells(values, bits, lows, highs, sums, counts, blocks):
    """Lowest, highest, sum and number of the values that are not NaN, for each block of rows.

    Single precision is compared by its ``bits`` (int32), turned so that whole numbers have the order of the
    values: that goes many at a time, as does a sum whose order is free.
    """
    rows, cols = values.shape
    for b in numba.prange(blocks):
        low, high, total, n = HIGHEST, LOWEST, 0.0, 0
        for r in range(b * rows // blocks, (b + 1) * rows // blocks):
            row, held = values[r], bits[r]
            for j in range(cols):
                v, k = row[j], held[j]
                k = np.int32(k ^ ((k >> _SIGN) & _REST))
                known = v == v
                low = min(low, k if known else HIGHEST)
                high = max(high, k if known else LOWEST)
                total += np.float64(v) if known else 0.0
                n += np.int64(known)
        lows[b], highs[b], sums[b], counts[b] = low, high, total, n
