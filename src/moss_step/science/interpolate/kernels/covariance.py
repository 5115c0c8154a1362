"""Kernels: covariances over distance, and their sums over many places.

Shapes of a variogram are numbers here: 0 spherical, 1 exponential, 2 Gaussian, 3 and 4 Matérn with a
smoothness of 1.5 and 2.5, 5 the thin plate. Ranges are those of the formula, no practical ones.
"""

from __future__ import annotations

from typing import Any

import numba
import numpy as np
from llvmlite import ir
from numba.core import types
from numba.extending import intrinsic

_SUMS = {"reassoc", "contract", "arcp", "nsz"}
"""Sums may be taken in any order: loops over places then run in lanes."""
_FAR = 700.0
"""Beyond it exp(-u) is 0 in double precision."""
_LOG2_E, _LN_2 = 1.4426950408889634, 0.6931471805599453


@intrinsic
def _as_float(_: Any, bits: Any) -> Any:
    """Bits of a whole number as those of a floating one."""

    def generate(_: Any, builder: Any, __: Any, arguments: Any) -> Any:
        return builder.bitcast(arguments[0], ir.DoubleType())

    return types.float64(types.int64), generate


@numba.njit(cache=True)
def falling_exp(u):
    """exp(-u) for u from 0, within 1e-14 of its value; no branches, so that loops run in lanes.

    2^k times the series of e^f, with f at most half of ln 2 (Cody & Waite 1980).
    """
    t = -min(u, _FAR) * _LOG2_E
    k = np.floor(t + 0.5)
    f = (t - k) * _LN_2
    p = 1.0 / 3628800.0
    p = p * f + 1.0 / 362880.0
    p = p * f + 1.0 / 40320.0
    p = p * f + 1.0 / 5040.0
    p = p * f + 1.0 / 720.0
    p = p * f + 1.0 / 120.0
    p = p * f + 1.0 / 24.0
    p = p * f + 1.0 / 6.0
    p = p * f + 0.5
    p = p * f + 1.0
    p = p * f + 1.0
    return p * _as_float((np.int64(k) + np.int64(1023)) << np.int64(52))


@numba.njit(inline="always", cache=True)
def correlation(shape, h2, a):
    """Share of the sill that is left at the square of a distance; of the thin plate r² log r."""
    if shape == 0:
        h = np.sqrt(h2) / a
        return 1.0 - h * (1.5 - 0.5 * h * h) if h < 1.0 else 0.0
    if shape == 1:
        return falling_exp(np.sqrt(h2) / a)
    if shape == 2:
        return falling_exp(h2 / (a * a))
    if shape == 3:
        s = np.sqrt(h2) / a
        return (1.0 + s) * falling_exp(s)
    if shape == 4:
        s = np.sqrt(h2) / a
        return (1.0 + s + s * s / 3.0) * falling_exp(s)
    return 0.5 * (h2 / (a * a)) * np.log(h2 / (a * a)) if h2 > 0.0 else 0.0


@numba.njit(cache=True)
def covariance(shapes, sills, ranges, h2):
    """Sum of the structures at the square of a distance, without the nugget."""
    total = 0.0
    for s in range(shapes.size):
        total += sills[s] * correlation(shapes[s], h2, ranges[s])
    return total


@numba.njit(inline="always", cache=True)
def _add_row(shape, sill, a, x, y, bx, by, row):
    for j in range(bx.size):
        dx, dy = x - bx[j], y - by[j]
        row[j] += sill * correlation(shape, dx * dx + dy * dy, a)


@numba.njit(cache=True, nogil=True, fastmath=_SUMS)
def _fill_row(shapes, sills, ranges, x, y, bx, by, row):
    """Covariances between a place and others. Each shape has a loop of its own, whose choices are made before
    it begins, so that it runs in lanes.
    """
    row[:] = 0.0
    for s in range(shapes.size):
        shape, sill, a = shapes[s], sills[s], ranges[s]
        if shape == 0:
            _add_row(0, sill, a, x, y, bx, by, row)
        elif shape == 1:
            _add_row(1, sill, a, x, y, bx, by, row)
        elif shape == 2:
            _add_row(2, sill, a, x, y, bx, by, row)
        elif shape == 3:
            _add_row(3, sill, a, x, y, bx, by, row)
        elif shape == 4:
            _add_row(4, sill, a, x, y, bx, by, row)
        else:
            _add_row(5, sill, a, x, y, bx, by, row)


@numba.njit(cache=True, nogil=True, parallel=True)
def between_places(shapes, sills, ranges, ax, ay, bx, by, out):
    """Covariances between places a (rows) and b (columns), without the nugget."""
    for i in numba.prange(ax.size):
        _fill_row(shapes, sills, ranges, ax[i], ay[i], bx, by, out[i])


@numba.njit(cache=True, nogil=True, fastmath=_SUMS)
def _dot(row, weights):
    total = 0.0
    for j in range(row.size):
        total += row[j] * weights[j]
    return total


@numba.njit(cache=True, nogil=True, parallel=True)
def add_sums(shapes, sills, ranges, x, y, px, py, weights, out):
    """Add to each place (x, y) its covariances with places p, each times its weight: kriging in its dual
    form (Matheron 1971).
    """
    for i in numba.prange(x.size):
        row = np.empty(px.size)
        _fill_row(shapes, sills, ranges, x[i], y[i], px, py, row)
        out[i] += _dot(row, weights)
