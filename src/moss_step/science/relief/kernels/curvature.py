"""Kernels: curvature of a ground: plan, profile, tangential and mean, convex positive."""

from __future__ import annotations

import numba
import numpy as np


@numba.njit(cache=True, nogil=True, parallel=True, error_model="numpy")
def curvature_rows(z, widths, heights, scale, first, last, kind, out):
    """Curvature of rows ``first`` to ``last``; the outermost rows and columns become NaN."""
    rows, cols = z.shape
    n = cols - 2
    for row in numba.prange(first, last):
        o = out[row]
        o[:] = np.float32(np.nan)
        if row == 0 or row == rows - 1 or n < 1:
            continue
        a, b, c = z[row - 1, :n], z[row - 1, 1 : n + 1], z[row - 1, 2 : n + 2]
        d, e, f = z[row, :n], z[row, 1 : n + 1], z[row, 2 : n + 2]
        g, h, i = z[row + 1, :n], z[row + 1, 1 : n + 1], z[row + 1, 2 : n + 2]
        k = o[1 : n + 1]
        dx, dy = np.float32(widths[row]), np.float32(heights[row])
        wp, wq = scale / (np.float32(6.0) * dx), scale / (np.float32(6.0) * dy)
        wr, wt = scale / (np.float32(3.0) * dx * dx), scale / (np.float32(3.0) * dy * dy)
        ws = scale / (np.float32(4.0) * dx * dy)
        one, two = np.float32(1.0), np.float32(2.0)
        for j in range(n):
            m = e[j]
            # Heights are taken from the middle cell first: the differences then keep float32's full
            # precision.
            za, zb, zc, zd = a[j] - m, b[j] - m, c[j] - m, d[j] - m
            zf, zg, zh, zi = f[j] - m, g[j] - m, h[j] - m, i[j] - m
            p = (zc + zf + zi - za - zd - zg) * wp
            q = (za + zb + zc - zg - zh - zi) * wq
            r = (za + zc + zd + zf + zg + zi - two * (zb + zh)) * wr
            t = (za + zb + zc + zg + zh + zi - two * (zd + zf)) * wt
            s = (zc + zg - za - zi) * ws
            steep = p * p + q * q
            if kind == 0:
                v = -(p * p * r + two * p * q * s + q * q * t) / (
                    steep * (one + steep) * np.sqrt(one + steep)
                )
            elif kind == 1:
                v = -(q * q * r - two * p * q * s + p * p * t) / (steep * np.sqrt(steep))
            elif kind == 2:
                v = -(q * q * r - two * p * q * s + p * p * t) / (steep * np.sqrt(one + steep))
            else:
                v = -((one + q * q) * r - two * p * q * s + (one + p * p) * t) / (
                    two * (one + steep) * np.sqrt(one + steep)
                )
            k[j] = np.float32(0.0) if steep == np.float32(0.0) and kind != 3 else v
