"""Kernels: slope, aspect and hillshade from the gradient of an elevation grid."""

from __future__ import annotations

import math

import numba
import numpy as np

from moss_step.science.kernels.numeric import atan2_fast, atan_positive

DEGREES, PERCENT_KERNEL, ASPECT, SHADE_KERNEL = 0, 1, 2, 3
TO_DEGREES = np.float32(180.0 / math.pi)
NAN = np.float32(np.nan)


@numba.njit(inline="always", cache=True)
def difference(low, middle, high):
    """Change per cell along three cells in a line, from those that exist; NaN when fewer than two do."""
    d = (high - low) * np.float32(0.5)
    if d != d:
        d = high - middle
    if d != d:
        d = middle - low
    return d


@numba.njit(cache=True, nogil=True)
def gradient_at(z, ax, ay, r, c, horn):
    """Gradient (east, north) of one cell from the neighbours that exist."""
    rows, cols = z.shape
    sx = sy = np.float32(0.0)
    wx = wy = np.float32(0.0)
    for k in range(-1, 2):
        if k != 0 and not horn:
            continue
        w = np.float32(2.0) if k == 0 else np.float32(1.0)
        if 0 <= r + k < rows:
            left = z[r + k, c - 1] if c > 0 else NAN
            right = z[r + k, c + 1] if c + 1 < cols else NAN
            d = difference(left, z[r + k, c], right) * ax[r + k]
            if d == d:
                sx += w * d
                wx += w
        if 0 <= c + k < cols:
            south = z[r + 1, c + k] if r + 1 < rows else NAN
            north = z[r - 1, c + k] if r > 0 else NAN
            d = difference(south, z[r, c + k], north) * ay[r]
            if d == d:
                sy += w * d
                wy += w
    if wx == 0 or wy == 0:
        return NAN, NAN
    return sx / wx, sy / wy


@numba.njit(cache=True, nogil=True, error_model="numpy")
def row_gradient(z, ax, ay, r, horn, gx, gy):
    """Gradient of one row of cells into ``gx`` (east) and ``gy`` (north)."""
    rows, cols = z.shape
    gx[:] = gy[:] = NAN
    if 0 < r < rows - 1 and cols > 2:
        n = cols - 2
        ia, ib, ic = z[r - 1, :n], z[r - 1, 1 : n + 1], z[r - 1, 2 : n + 2]
        id_, ie, if_ = z[r, :n], z[r, 1 : n + 1], z[r, 2 : n + 2]
        ig, ih, ii = z[r + 1, :n], z[r + 1, 1 : n + 1], z[r + 1, 2 : n + 2]
        ox, oy = gx[1 : n + 1], gy[1 : n + 1]
        if horn:
            w0, w1 = ax[r - 1] * np.float32(0.125), ax[r] * np.float32(0.25)
            w2, wy = ax[r + 1] * np.float32(0.125), ay[r] * np.float32(0.125)
            for j in range(n):
                # A missing cell itself makes the result missing, although it has no weight.
                here = ie[j] - ie[j]
                ox[j] = (ic[j] - ia[j]) * w0 + (if_[j] - id_[j]) * w1 + (ii[j] - ig[j]) * w2 + here
                oy[j] = ((ia[j] - ig[j]) + (ib[j] - ih[j]) * np.float32(2.0) + (ic[j] - ii[j])) * wy + here
        else:
            w1, wy = ax[r] * np.float32(0.5), ay[r] * np.float32(0.5)
            for j in range(n):
                here = ie[j] - ie[j]
                ox[j] = (if_[j] - id_[j]) * w1 + here
                oy[j] = (ib[j] - ih[j]) * wy + here
    row = z[r]
    for j in range(cols):
        if (gx[j] != gx[j] or gy[j] != gy[j]) and row[j] == row[j]:
            gx[j], gy[j] = gradient_at(z, ax, ay, r, j, horn)


@numba.njit(cache=True, nogil=True, parallel=True, error_model="numpy")
def measure_rows(z, ax, ay, first, last, horn, measure, light, out):
    """Write one measure of the gradient for rows ``first`` to ``last``."""
    cols = z.shape[1]
    for r in numba.prange(first, last):
        gx = np.empty(cols, np.float32)
        gy = np.empty(cols, np.float32)
        row_gradient(z, ax, ay, r, horn, gx, gy)
        o = out[r]
        if measure == DEGREES:
            for j in range(cols):
                o[j] = atan_positive(np.sqrt(gx[j] * gx[j] + gy[j] * gy[j])) * TO_DEGREES
        elif measure == PERCENT_KERNEL:
            for j in range(cols):
                o[j] = np.sqrt(gx[j] * gx[j] + gy[j] * gy[j]) * np.float32(100.0)
        elif measure == ASPECT:
            for j in range(cols):
                a = atan2_fast(-gx[j], -gy[j]) * TO_DEGREES
                a = a + np.float32(360.0) if a < np.float32(0.0) else a
                a = a - np.float32(360.0) if a >= np.float32(360.0) else a
                o[j] = np.float32(-1.0) if abs(gx[j]) + abs(gy[j]) == np.float32(0.0) else a
                o[j] = NAN if gx[j] != gx[j] or gy[j] != gy[j] else o[j]
        else:
            east, north, up = light[0], light[1], light[2]
            for j in range(cols):
                shade = (up - gx[j] * east - gy[j] * north) / np.sqrt(
                    np.float32(1.0) + gx[j] * gx[j] + gy[j] * gy[j]
                )
                o[j] = np.float32(0.0) if shade < np.float32(0.0) else shade * np.float32(255.0)
