"""Kernels: what went and what came between two surveys, added up row by row."""

from __future__ import annotations

import numba

SUMS = 6
"""Sums of a row: volume lowered and raised, area of each, whole area, and area whose change can be told."""


@numba.njit(parallel=True, nogil=True, cache=True)
def change_sums(off, shares, areas, least, counted, sums):
    """Add up changes (rows, cols; NaN unknown) that are at least so large, or all that are ``counted``.

    ``shares`` are of cells that count (rows, cols), or have no rows for all; ``areas`` (rows) are of cells.
    """
    rows, cols = off.shape
    partly = shares.shape[0] > 0
    for row in numba.prange(rows):
        lowered, raised, down, up, whole, told = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
        for col in range(cols):
            d = off[row, col]
            if d != d:
                continue
            part = shares[row, col] if partly else 1.0
            whole += part
            large = abs(d) >= least
            told += part if large else 0.0
            if not (large or counted):
                continue
            if d < 0.0:
                lowered -= part * d
                down += part
            elif d > 0.0:
                raised += part * d
                up += part
        sums[row, 0], sums[row, 1], sums[row, 2] = (
            lowered * areas[row],
            raised * areas[row],
            down * areas[row],
        )
        sums[row, 3], sums[row, 4], sums[row, 5] = up * areas[row], whole * areas[row], told * areas[row]
