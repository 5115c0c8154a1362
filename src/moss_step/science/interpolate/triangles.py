"""The Delaunay triangulation of points in the plane."""

from __future__ import annotations

import numpy as np

from moss_step.model.errors import MossError
from moss_step.science.interpolate.kernels.delaunay import side, sweep

_BITS = 24
"""Coordinates are rounded to whole numbers of so many bits and a sign, so that sides of lines are exact."""
_ROUNDED = 2.0
"""Steps that rounding may carry a point off the line that it stands on."""
_ON_A_LINE = ("The points stand on one line: there is no surface between them.", "Take more points.")


def delaunay(x: np.ndarray, y: np.ndarray) -> np.ndarray:
    """Triangles between all points, no point in the circle of any (Delaunay 1934).

    By a sweep from the middle outwards whose edges are flipped (Sinclair 2010). Coordinates are rounded to
    2^-24 of their extent, a tenth of a millimetre in a kilometre; of points in one place one counts.

    Parameters
    ----------
    x
        First coordinates (n), in one unit with the second.
    y
        Second coordinates (n).

    Returns
    -------
    np.ndarray
        Numbers of the corners (int32, m x 3), clockwise where y is up.

    Raises
    ------
    MossError
        For fewer than three points, or points on one line.

    Source
    ------
    Delaunay 1934, Sur la sphère vide; Sinclair 2010, S-hull: a fast sweep-hull routine for Delaunay
    triangulation, arXiv 1604.01428; Shewchuk 1997 for the bound on rounding.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.interpolate.triangles import delaunay
    >>> len(delaunay(np.array([0.0, 2.0, 0.0, 2.0, 1.0]), np.array([0.0, 0.0, 2.0, 2.0, 1.0])))
    4
    """
    if len(x) < 3:
        raise MossError("Triangles need three points or more.", "Take other classes or returns.")
    return between_whole(*whole_numbers(np.asarray(x, np.float64), np.asarray(y, np.float64)))


def between_whole(px: np.ndarray, py: np.ndarray) -> np.ndarray:
    """Triangles between points whose coordinates are whole numbers already, as ``whole_numbers`` gives them.

    Parameters
    ----------
    px
        First coordinates (n).
    py
        Second coordinates (n).

    Returns
    -------
    np.ndarray
        Numbers of the corners (int32, m x 3), clockwise where y is up.

    Raises
    ------
    MossError
        For points on one line.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.interpolate.triangles import between_whole
    >>> between_whole(np.array([0.0, 8.0, 0.0]), np.array([0.0, 0.0, 8.0])).shape
    (1, 3)
    """
    seeds, middle = _seeds(px, py)
    order = np.argsort((px - middle[0]) ** 2 + (py - middle[1]) ** 2, kind="stable").astype(np.int32)
    order = _one_a_place(px, py, order)
    room = 6 * len(order)
    corners, twins = np.empty(room, np.int32), np.empty(room, np.int32)
    places = np.array([np.flatnonzero(order == s)[0] for s in seeds], np.int32)
    # Points in the order of the sweep lie near each other in memory, too.
    count = sweep(px[order], py[order], places, middle[0], middle[1], corners, twins)
    return order[corners[:count]].reshape(-1, 3)


def whole_numbers(x: np.ndarray, y: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Coordinates around their middle as whole numbers of 24 bits and a sign, in double precision.

    Parameters
    ----------
    x
        First coordinates (n).
    y
        Second coordinates (n).

    Returns
    -------
    tuple[np.ndarray, np.ndarray]
        Both as whole numbers (n).

    Raises
    ------
    MossError
        For points on one line, or in one place.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.interpolate.triangles import whole_numbers
    >>> whole_numbers(np.array([0.0, 2.0, 0.0]), np.array([0.0, 0.0, 1.0]))[0].tolist()
    [-16777216.0, 16777216.0, -16777216.0]
    """
    low, high = (np.array([f(x), f(y)]) for f in (np.min, np.max))
    span = float((high - low).max())
    if not span > 0.0:
        raise MossError(*_ON_A_LINE)
    # A power of two: coordinates on a lattice of halves, tens or whole metres stay on one.
    step = 2.0 ** np.ceil(np.log2(span / 2.0 ** (_BITS + 1)))
    middle = np.rint((low + high) / 2.0 / step) * step
    px, py = np.rint((x - middle[0]) / step), np.rint((y - middle[1]) / step)
    one = int(np.argmax(px * px + py * py))
    dx, dy = px - px[one], py - py[one]
    far = int(np.argmax(dx * dx + dy * dy))
    if np.abs(dx * dy[far] - dy * dx[far]).max() <= _ROUNDED * np.hypot(dx[far], dy[far]):
        raise MossError(*_ON_A_LINE)
    return px, py


def _seeds(x: np.ndarray, y: np.ndarray) -> tuple[np.ndarray, tuple[float, float]]:
    """Three points near the middle with a small circle through them, clockwise, and the middle of that."""
    i0 = int(np.argmin(x * x + y * y))
    away = (x - x[i0]) ** 2 + (y - y[i0]) ** 2
    i1 = int(np.argmin(np.where(away > 0, away, np.inf)))
    dx, dy = x[i1] - x[i0], y[i1] - y[i0]
    ex, ey = x - x[i0], y - y[i0]
    twice = 2.0 * (dx * ey - dy * ex)
    with np.errstate(divide="ignore", invalid="ignore"):
        cx = (ey * (dx * dx + dy * dy) - dy * (ex * ex + ey * ey)) / twice
        cy = (dx * (ex * ex + ey * ey) - ex * (dx * dx + dy * dy)) / twice
        radius = np.where(twice != 0.0, cx * cx + cy * cy, np.inf)
    i2 = int(np.argmin(radius))
    if not np.isfinite(radius[i2]):
        raise MossError(*_ON_A_LINE)
    middle = float(x[i0] + cx[i2]), float(y[i0] + cy[i2])
    if side(x[i0], y[i0], x[i1], y[i1], x[i2], y[i2]) < 0:
        i1, i2 = i2, i1
    return np.array([i0, i1, i2], np.int32), middle


def _one_a_place(x: np.ndarray, y: np.ndarray, order: np.ndarray) -> np.ndarray:
    """The order with one point of those in one place."""
    key = x[order] * 2.0 ** (_BITS + 2) + y[order]  # exact: 25 bits and 25 bits
    by_key = np.argsort(key, kind="stable")
    again = np.flatnonzero(np.diff(key[by_key]) == 0) + 1
    return np.delete(order, by_key[again]) if again.size else order
