"""Kernels: what went and what came between two surveys, added up row by row."""

from __future__ import annotations

import numba

SUMS = 14
"""Sums of a row: volume lowered and raised, area of each, whole area, area whose change can be told, volume
lowered and raised that cannot; and of what counts as lowered, as raised, and at all, spread times area and
squared spread times area.
"""


@numba.njit(parallel=True, nogil=True, cache=True)
def change_sums(off, shares, areas, spread, factor, counted, sums):
    """Add up changes (rows, cols; NaN unknown) that are at least ``factor`` times their spread, or all that
    are ``counted``.

    ``shares`` are of cells that count (rows, cols), or have no rows for all; ``spread`` (rows, cols, or 1, 1
    for all alike) is the standard error of a change; ``areas`` (rows) are of cells.
    """
    rows, cols = off.shape
    partly, alike = shares.shape[0] > 0, spread.shape[0] != rows or spread.shape[1] != cols
    for row in numba.prange(rows):
        lowered, raised, down, up, whole, told = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
        small_down, small_up = 0.0, 0.0
        down_one, down_two, up_one, up_two, all_one, all_two = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
        for col in range(cols):
            d = off[row, col]
            if d != d:
                continue
            part = shares[row, col] if partly else 1.0
            s = spread[0, 0] if alike else spread[row, col]
            whole += part
            if abs(d) >= factor * s:
                told += part
            else:
                small_down -= part * min(d, 0.0)
                small_up += part * max(d, 0.0)
                if not counted:
                    continue
            all_one += part * s
            all_two += part * s * s
            if d < 0.0:
                lowered -= part * d
                down += part
                down_one += part * s
                down_two += part * s * s
            elif d > 0.0:
                raised += part * d
                up += part
                up_one += part * s
                up_two += part * s * s
        area = areas[row]
        sums[row, 0], sums[row, 1], sums[row, 2], sums[row, 3] = (
            lowered * area, raised * area, down * area, up * area,
        )  # fmt: skip
        sums[row, 4], sums[row, 5], sums[row, 6], sums[row, 7] = (
            whole * area, told * area, small_down * area, small_up * area,
        )  # fmt: skip
        sums[row, 8], sums[row, 9], sums[row, 10] = down_one * area, down_two * area, up_one * area
        sums[row, 11], sums[row, 12], sums[row, 13] = up_two * area, all_one * area, all_two * area


@numba.njit(parallel=True, nogil=True, cache=True)
def simulated_sums(off, noise, shares, areas, spread, factor, counted, sums):
    """Add up changes with an error added to each: volume lowered and raised, a row of ``sums`` (rows, 2) for
    each row. ``noise`` (rows, cols) has a spread of 1; the rest as for ``change_sums``.
    """
    rows, cols = off.shape
    partly, alike = shares.shape[0] > 0, spread.shape[0] != rows or spread.shape[1] != cols
    for row in numba.prange(rows):
        lowered, raised = 0.0, 0.0
        for col in range(cols):
            s = spread[0, 0] if alike else spread[row, col]
            d = off[row, col] + s * noise[row, col]
            if d != d or not (counted or abs(d) >= factor * s):
                continue
            part = shares[row, col] if partly else 1.0
            lowered -= part * min(d, 0.0)
            raised += part * max(d, 0.0)
        sums[row, 0], sums[row, 1] = lowered * areas[row], raised * areas[row]
