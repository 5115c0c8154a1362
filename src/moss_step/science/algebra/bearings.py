"""Bearings as directions on a circle: their mean, their spread and what lies between two of them.

Mardia & Jupp 2000, Directional Statistics: the mean direction is that of the sum of unit vectors, and the
circular standard deviation is sqrt(-2 ln R) with R the length of their mean. A flat aspect has no direction
and adds nothing.
"""

from __future__ import annotations

import numpy as np

from moss_step.model.surface import FLAT
from moss_step.science.algebra.kernels.bearings import add_vectors

_BLOCKS = 8
_NO_DIRECTION = 1e-6
"""Length of a mean vector below which it points nowhere."""


def vectors(bearings: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """East and north parts of unit vectors along bearings in degrees (float64); zeros for flat ones, NaN
    stays.

    Parameters
    ----------
    bearings
        Degrees clockwise from north, any shape; -1 is flat, NaN no-data.

    Returns
    -------
    tuple[np.ndarray, np.ndarray]
        East and north, float64 of the shape given.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.algebra.bearings import vectors
    >>> east, north = vectors(np.array([0.0, 90.0]))
    >>> east.round(6).tolist(), north.round(6).tolist()
    ([0.0, 1.0], [1.0, 0.0])
    """
    turned = np.radians(bearings.astype(np.float64))
    pointing = np.where(bearings < 0, 0.0, 1.0)
    return np.sin(turned) * pointing, np.cos(turned) * pointing


def bearing_of(east: np.ndarray, north: np.ndarray) -> np.ndarray:
    """Bearing in degrees, 0 to below 360, of mean vectors; FLAT (-1) for those that point nowhere, NaN stays
    (float32).

    Parameters
    ----------
    east
        East parts of unit vectors.
    north
        North parts of unit vectors.

    Returns
    -------
    np.ndarray
        Degrees, float32 of the shape given.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.algebra.bearings import bearing_of
    >>> bearing_of(np.array([0.0, 1.0]), np.array([1.0, 0.0])).tolist()
    [0.0, 90.0]
    """
    turned = (np.degrees(np.arctan2(east, north)) % 360.0).astype(np.float32)
    turned[turned >= np.float32(360.0)] = 0.0
    nowhere = np.hypot(east, north) < _NO_DIRECTION
    return np.where(np.isnan(east), np.float32(np.nan), np.where(nowhere, np.float32(FLAT), turned))


def mean_bearing(bearings: np.ndarray, weights: np.ndarray | None = None) -> float:
    """Mean direction of bearings in degrees; NaN when none points anywhere, or all cancel out.

    Parameters
    ----------
    bearings
        Degrees clockwise from north, any shape; -1 is flat, NaN no-data.
    weights
        Weights, 0 or above.

    Returns
    -------
    float
        Degrees, 0 to below 360.

    Source
    ------
    Mardia & Jupp 2000, Directional Statistics, Wiley.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.algebra.bearings import mean_bearing
    >>> round(mean_bearing(np.array([350.0, 20.0])), 6)
    5.0
    """
    flat = np.ascontiguousarray(bearings).reshape(-1)
    sums = np.zeros((_BLOCKS, 3))
    add_vectors(
        flat, np.ones(1) if weights is None else np.ascontiguousarray(weights, np.float64).reshape(-1), sums
    )
    east, north, total = (float(v) for v in sums.sum(axis=0))
    if total <= 0:
        return float("nan")
    mean = float(bearing_of(np.array([east / total]), np.array([north / total]))[0])
    return mean if mean >= 0 else float("nan")


def spread(resultant: np.ndarray) -> np.ndarray:
    """Circular standard deviation in degrees of mean vectors of some length.

    Parameters
    ----------
    resultant
        Lengths of mean vectors, 0 to 1.

    Returns
    -------
    np.ndarray
        Degrees, of the shape given.

    Source
    ------
    Mardia & Jupp 2000, Directional Statistics, Wiley: sqrt(-2 ln R).

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.algebra.bearings import spread
    >>> spread(np.array([0.9, 0.5])).round(1).tolist()  # degrees
    [26.3, 67.5]
    """
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.asarray(np.degrees(np.sqrt(-2.0 * np.log(np.minimum(resultant, 1.0)))))


def turn_between(first: np.ndarray, second: np.ndarray) -> np.ndarray:
    """Degrees from the second bearing to the first, -180 to 180, clockwise positive; NaN where one of them is
    flat.

    Parameters
    ----------
    first
        The surface or bearings that the second is compared with.
    second
        What is taken away from the first, or divides it.

    Returns
    -------
    np.ndarray
        Degrees, of the shape given.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.algebra.bearings import turn_between
    >>> turn_between(np.array([10.0]), np.array([350.0])).tolist()
    [20.0]
    """
    turned = (first.astype(np.float64) - second + 180.0) % 360.0 - 180.0
    return np.where((first < 0) | (second < 0), np.nan, turned)
