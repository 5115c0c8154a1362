"""Measures of a cell against its eight neighbours: ruggedness and roughness."""

from __future__ import annotations

from typing import Literal

import numba
import numpy as np

from moss_step.model.progress import Progress, silent
from moss_step.model.surface import Surface

Ruggedness = Literal["riley", "mean_absolute"]
BLOCK_ROWS = 512
RILEY_BOUNDS = (80.0, 116.0, 161.0, 239.0, 497.0, 958.0)
"""Bounds in metres between the seven ruggedness classes of Riley, DeGloria & Elliot 1999, Intermountain J. Sci. 5."""
_RILEY, _MEAN, _RANGE = 0, 1, 2


@numba.njit(cache=True, nogil=True)
def _by_hand(z, r, c, measure):  # type: ignore[no-untyped-def]  # numba infers the types
    """The measure of one cell from the neighbours that exist; sums are scaled up to eight."""
    total, n = 0.0, 0
    low, high = z[r, c], z[r, c]
    for i in range(max(r - 1, 0), min(r + 2, z.shape[0])):
        for j in range(max(c - 1, 0), min(c + 2, z.shape[1])):
            v = z[i, j]
            if (i != r or j != c) and v == v:
                d = v - z[r, c]
                total += d * d if measure == _RILEY else abs(d)
                low, high = min(low, v), max(high, v)
                n += 1
    if n == 0:
        return np.float32(np.nan)
    if measure == _RANGE:
        return np.float32(high - low)
    return np.float32(np.sqrt(total * 8.0 / n) if measure == _RILEY else total / n)


@numba.njit(cache=True, nogil=True, parallel=True)
def _neighbour_rows(z, first, last, measure, out):  # type: ignore[no-untyped-def]  # numba infers the types
    """One measure of rows ``first`` to ``last``: a vectorised pass, then edges and the surroundings of no-data by hand."""
    rows, cols = z.shape
    n = cols - 2
    for r in numba.prange(first, last):
        o = out[r]
        o[:] = np.float32(np.nan)
        if 0 < r < rows - 1 and n > 0:
            a, b, c = z[r - 1, :n], z[r - 1, 1 : n + 1], z[r - 1, 2 : n + 2]
            d, e, f = z[r, :n], z[r, 1 : n + 1], z[r, 2 : n + 2]
            g, h, i = z[r + 1, :n], z[r + 1, 1 : n + 1], z[r + 1, 2 : n + 2]
            k = o[1 : n + 1]
            for j in range(n):
                m = e[j]
                za, zb, zc, zd = a[j] - m, b[j] - m, c[j] - m, d[j] - m
                zf, zg, zh, zi = f[j] - m, g[j] - m, h[j] - m, i[j] - m
                if measure == _RILEY:
                    s = za * za + zb * zb + zc * zc + zd * zd + zf * zf + zg * zg + zh * zh + zi * zi
                    k[j] = np.sqrt(s)
                elif measure == _MEAN:
                    s = abs(za) + abs(zb) + abs(zc) + abs(zd) + abs(zf) + abs(zg) + abs(zh) + abs(zi)
                    k[j] = s * np.float32(0.125)
                else:
                    low = min(za, zb, zc, zd, zf, zg, zh, zi)
                    high = max(za, zb, zc, zd, zf, zg, zh, zi)
                    every = za + zb + zc + zd + zf + zg + zh + zi  # NaN when any is missing
                    v = max(high, np.float32(0.0)) - min(low, np.float32(0.0))
                    k[j] = v if every == every else np.float32(np.nan)
        for j in range(cols):
            if o[j] != o[j] and z[r, j] == z[r, j]:
                o[j] = _by_hand(z, r, j, measure)


def _measured(dem: Surface, measure: int, quantity: str, progress: Progress | None) -> Surface:
    _ = dem.metres_per_height  # refuses what holds no heights
    out, (level, _) = np.empty(dem.frame.shape, np.float32), dem.levelled
    for first, last in (progress or silent()).blocks(dem.frame.rows, BLOCK_ROWS, f"Working out {quantity}"):
        _neighbour_rows(level.values, first, last, measure, out)
    return Surface(out, dem.frame, dem.unit, quantity)


def ruggedness(dem: Surface, method: Ruggedness = "riley", progress: Progress | None = None) -> Surface:
    """Ruggedness in the unit of the heights: root of the summed squared differences to eight neighbours (Riley et al.
    1999), or the mean of the absolute differences. At edges the neighbours that exist count, scaled up to eight.
    """
    return _measured(dem, _RILEY if method == "riley" else _MEAN, "ruggedness", progress)


def roughness(dem: Surface, progress: Progress | None = None) -> Surface:
    """Highest less lowest of a cell and its neighbours, in the unit of the heights (Wilson et al. 2007)."""
    return _measured(dem, _RANGE, "roughness", progress)
