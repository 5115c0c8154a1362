"""Kernels: measures of a cell against its eight neighbours: ruggedness and roughness."""

from __future__ import annotations

import numba
import numpy as np

RILEY, MEAN, RANGE = 0, 1, 2


@numba.njit(cache=True, nogil=True)
def by_hand(z, r, c, measure):
    """The measure of one cell from the neighbours that exist; sums are scaled up to eight."""
    total, n = 0.0, 0
    low, high = z[r, c], z[r, c]
    for i in range(max(r - 1, 0), min(r + 2, z.shape[0])):
        for j in range(max(c - 1, 0), min(c + 2, z.shape[1])):
            v = z[i, j]
            if (i != r or j != c) and v == v:
                d = v - z[r, c]
                total += d * d if measure == RILEY else abs(d)
                low, high = min(low, v), max(high, v)
                n += 1
    if n == 0:
        return np.float32(np.nan)
    if measure == RANGE:
        return np.float32(high - low)
    return np.float32(np.sqrt(total * 8.0 / n) if measure == RILEY else total / n)


@numba.njit(cache=True, nogil=True, parallel=True)
def neighbour_rows(z, first, last, measure, out):
    """One measure of rows ``first`` to ``last``: a vectorised pass, then edges and the surroundings of
    no-data by hand.
    """
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
                if measure == RILEY:
                    s = za * za + zb * zb + zc * zc + zd * zd + zf * zf + zg * zg + zh * zh + zi * zi
                    k[j] = np.sqrt(s)
                elif measure == MEAN:
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
                o[j] = by_hand(z, r, j, measure)
