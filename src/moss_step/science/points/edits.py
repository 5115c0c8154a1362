"""Points inside outlines: drawn on the plan, or in a section along a line."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
import shapely

from moss_step.model.cloud import Cloud


class Corridor(NamedTuple):
    """Points beside a path: their numbers in the cloud, metres along the path, and metres beside it, to the
    left below 0.
    """

    rows: np.ndarray
    along: np.ndarray
    beside: np.ndarray


def corridor(cloud: Cloud, path: np.ndarray, width: float) -> Corridor:
    """Points within half a width of a path, each at the nearest place of the path.

    Parameters
    ----------
    cloud
        n points.
    path
        Vertices in the system of the cloud (m, 2).
    width
        Metres from side to side.

    Returns
    -------
    Corridor
        Numbers, metres along and metres beside (k).

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.points.edits import corridor
    >>> from moss_step.science.sample import scattered
    >>> corridor(scattered(), np.array([[0.0, 2.5], [6.0, 2.5]]), 0.5).along.tolist()
    [0.5, 1.5, 2.5, 3.5, 4.5, 5.5]
    """
    east, north = cloud.plan_metres
    half = width / 2.0
    x, y = np.asarray(cloud.x), np.asarray(cloud.y)
    margin = np.array([half / east, half / north])
    low, high = path.min(axis=0) - margin, path.max(axis=0) + margin
    rows = np.flatnonzero((x >= low[0]) & (x <= high[0]) & (y >= low[1]) & (y <= high[1]))
    px, py = x[rows] * east, y[rows] * north
    nearest = np.full(rows.size, np.inf)
    along, beside = np.zeros(rows.size), np.zeros(rows.size)
    start = 0.0
    for (ax, ay), (bx, by) in zip(path[:-1] * (east, north), path[1:] * (east, north), strict=True):
        length = float(np.hypot(bx - ax, by - ay))
        if length == 0.0:
            continue
        ux, uy = (bx - ax) / length, (by - ay) / length
        s = (px - ax) * ux + (py - ay) * uy
        t = (px - ax) * uy - (py - ay) * ux
        away = np.hypot(t, s - np.clip(s, 0.0, length))
        # A point beyond an end of the path is in no corridor; beyond an end of a part it is near a corner.
        closer = away < nearest
        nearest[closer], along[closer], beside[closer] = away[closer], start + s[closer], t[closer]
        start += length
    kept = (nearest <= half) & (along >= 0.0) & (along <= start)
    return Corridor(rows[kept], along[kept], beside[kept])


def in_outline(x: np.ndarray, y: np.ndarray, vertices: np.ndarray) -> np.ndarray:
    """Which places lie inside an outline, which closes by itself.

    Parameters
    ----------
    x
        First coordinates (n).
    y
        Second coordinates (n).
    vertices
        Corners of the outline (m, 2).

    Returns
    -------
    np.ndarray
        True inside (n); of an outline that crosses itself what it winds around once.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.points.edits import in_outline
    >>> corners = np.array([[0.0, 0.0], [2.0, 0.0], [2.0, 2.0], [0.0, 2.0]])
    >>> in_outline(np.array([1.0, 3.0]), np.array([1.0, 1.0]), corners).tolist()
    [True, False]
    """
    return in_area(x, y, shapely.make_valid(shapely.Polygon(vertices)))


def in_area(x: np.ndarray, y: np.ndarray, area: shapely.Geometry) -> np.ndarray:
    """Which places lie inside an area.

    Parameters
    ----------
    x
        First coordinates (n).
    y
        Second coordinates (n).
    area
        A polygon, or several.

    Returns
    -------
    np.ndarray
        True inside (n).

    Examples
    --------
    >>> import numpy as np
    >>> import shapely
    >>> from moss_step.science.points.edits import in_area
    >>> in_area(np.array([1.0, 3.0]), np.array([1.0, 1.0]), shapely.box(0, 0, 2, 2)).tolist()
    [True, False]
    """
    xmin, ymin, xmax, ymax = shapely.bounds(area)
    inside = np.asarray((x >= xmin) & (x <= xmax) & (y >= ymin) & (y <= ymax))
    some = np.flatnonzero(inside)
    shapely.prepare(area)
    inside[some] = shapely.contains_xy(area, x[some], y[some])
    return inside
