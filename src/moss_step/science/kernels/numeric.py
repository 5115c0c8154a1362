"""Elementary functions written so that the compiler can vectorise them inside kernels."""

from __future__ import annotations

import math

import numba
import numpy as np

PI_2 = np.float32(math.pi / 2)
PI_4 = np.float32(math.pi / 4)
PI = np.float32(math.pi)
TAN_PI_8 = np.float32(math.tan(math.pi / 8))
ONE = np.float32(1.0)
ZERO = np.float32(0.0)
C3 = np.float32(-3.33329491539e-1)
C5 = np.float32(1.99777106478e-1)
C7 = np.float32(-1.38776856032e-1)
C9 = np.float32(8.05374449538e-2)


@numba.njit(inline="always", cache=True)
def first_from(ordered, v, first, last):
    """The place of the first value from ``first`` on that is not below one, of a run in ascending order that
    ends before ``last``: that where all are below it.
    """
    low, high = first, last
    while low < high:
        middle = (low + high) // 2
        if ordered[middle] < v:
            low = middle + 1
        else:
            high = middle
    return low


@numba.njit(inline="always", cache=True)
def atan_positive(x):
    """Arc tangent of a float32 ``x >= 0`` in radians, within 2e-7; no branches.

    Cody-Waite style reduction to [-tan(pi/8), tan(pi/8)] and the odd polynomial of degree nine of Moshier's
    single-precision mathematical library; the tests hold the error bound against NumPy.
    """
    big = x > ONE
    y = ONE / x if big else x
    half = y > TAN_PI_8
    t = (y - ONE) / (y + ONE) if half else y
    z = t * t
    p = t + t * z * (C3 + z * (C5 + z * (C7 + z * C9)))
    p = p + PI_4 if half else p
    return PI_2 - p if big else p


@numba.njit(inline="always", cache=True)
def atan2_fast(y, x):
    """Angle of the vector (x, y) in radians, -pi to pi, within 3e-7; 0 for the zero vector; no branches."""
    ax, ay = abs(x), abs(y)
    swap = ay > ax
    low = ax if swap else ay
    high = ay if swap else ax
    ratio = low / high if high > ZERO else ZERO
    half = ratio > TAN_PI_8
    t = (ratio - ONE) / (ratio + ONE) if half else ratio
    z = t * t
    p = t + t * z * (C3 + z * (C5 + z * (C7 + z * C9)))
    p = p + PI_4 if half else p
    p = PI_2 - p if swap else p
    p = PI - p if x < ZERO else p
    return -p if y < ZERO else p
