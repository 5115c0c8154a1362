"""Count, range and mean of a grid in one pass."""

from __future__ import annotations

from dataclasses import dataclass

import numba
import numpy as np


@numba.njit(cache=True, nogil=True, parallel=True)
def _summarise(values, lows, highs, sums, counts, blocks):  # type: ignore[no-untyped-def]  # numba infers the types
    """Lowest, highest, sum and number of the values that are not NaN, for each block of rows."""
    rows, cols = values.shape
    for b in numba.prange(blocks):
        low, high, total, n = np.inf, -np.inf, 0.0, 0
        for r in range(b * rows // blocks, (b + 1) * rows // blocks):
            for j in range(cols):
                v = values[r, j]
                if v == v:
                    low, high = min(low, v), max(high, v)
                    total += v
                    n += 1
        lows[b], highs[b], sums[b], counts[b] = low, high, total, n


@numba.njit(cache=True, nogil=True, parallel=True)
def drop_infinite(values):  # type: ignore[no-untyped-def]  # numba infers the types
    """Replace infinite values of a grid by NaN in place; gives their number."""
    found = 0
    for r in numba.prange(values.shape[0]):
        for j in range(values.shape[1]):
            if np.isinf(values[r, j]):
                values[r, j] = np.nan
                found += 1
    return found


@dataclass(frozen=True)
class Summary:
    """Number of valid cells, lowest, highest and mean value (NaN when there is none)."""

    count: int
    low: float
    high: float
    mean: float


def summarise(values: np.ndarray) -> Summary:
    """Summarise a grid, leaving NaN out; the mean is accumulated in float64."""
    if values.dtype != np.float32:
        known = values[~np.isnan(values)]
        if known.size == 0:
            return Summary(0, np.nan, np.nan, np.nan)
        return Summary(known.size, float(known.min()), float(known.max()), float(known.mean(dtype=np.float64)))
    blocks = min(16, values.shape[0])
    lows, highs, sums = np.empty(blocks), np.empty(blocks), np.empty(blocks)
    counts = np.empty(blocks, np.int64)
    _summarise(values, lows, highs, sums, counts, blocks)
    n = int(counts.sum())
    if n == 0:
        return Summary(0, np.nan, np.nan, np.nan)
    return Summary(n, float(lows.min()), float(highs.max()), float(sums.sum()) / n)
