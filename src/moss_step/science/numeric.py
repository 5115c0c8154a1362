"""Elementary functions written so that the compiler can vectorise them inside kernels."""

from __future__ import annotations

import math

import numba
import numpy as np

_PI_2 = np.float32(math.pi / 2)
_PI_4 = np.float32(math.pi / 4)
_PI = np.float32(math.pi)
_TAN_PI_8 = np.float32(math.tan(math.pi / 8))
_ONE = np.float32(1.0)
_ZERO = np.float32(0.0)
_C3 = np.float32(-3.33329491539e-1)
_C5 = np.float32(1.99777106478e-1)
_C7 = np.float32(-1.38776856032e-1)
_C9 = np.float32(8.05374449538e-2)


@numba.njit(inline="always", cache=True)
def atan_positive(x):  # type: ignore[no-untyped-def]  # numba infers the types
    """Arc tangent of a float32 ``x >= 0`` in radians, within 2e-7; no branches.

    Cody-Waite style reduction to [-tan(pi/8), tan(pi/8)] and the odd polynomial of degree nine of Moshier's
    single-precision mathematical library; the tests hold the error bound against NumPy.
    """
    big = x > _ONE
    y = _ONE / x if big else x
    half = y > _TAN_PI_8
    t = (y - _ONE) / (y + _ONE) if half else y
    z = t * t
    p = t + t * z * (_C3 + z * (_C5 + z * (_C7 + z * _C9)))
    p = p + _PI_4 if half else p
    return _PI_2 - p if big else p


@numba.njit(inline="always", cache=True)
def atan2_fast(y, x):  # type: ignore[no-untyped-def]  # numba infers the types
    """Angle of the vector (x, y) in radians, -pi to pi, within 3e-7; 0 for the zero vector; no branches."""
    ax, ay = abs(x), abs(y)
    swap = ay > ax
    low = ax if swap else ay
    high = ay if swap else ax
    ratio = low / high if high > _ZERO else _ZERO
    half = ratio > _TAN_PI_8
    t = (ratio - _ONE) / (ratio + _ONE) if half else ratio
    z = t * t
    p = t + t * z * (_C3 + z * (_C5 + z * (_C7 + z * _C9)))
    p = p + _PI_4 if half else p
    p = _PI_2 - p if swap else p
    p = _PI - p if x < _ZERO else p
    return -p if y < _ZERO else p
