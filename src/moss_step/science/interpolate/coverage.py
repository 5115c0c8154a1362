"""How well places cover a ground: the distance to the nearest, and the line that is to be run next."""

from __future__ import annotations

import math

import numpy as np
import shapely

from moss_step.model.errors import MossError
from moss_step.model.frame import Box, Frame
from moss_step.model.shapes import Shapes
from moss_step.science.framing import frame_around, round_side
from moss_step.science.interpolate.plane import Plane
from moss_step.science.interpolate.surfaces import plane_around
from moss_step.science.laying import cells_inside

_CELLS_A_LINE = 8.0
"""Cells from one line to the next."""
_STRAIGHT = 0.5
"""How alike the bearings of a way must be before lines are said to run along it."""
_CLOSER = 0.95
"""Lines are planned so much closer than asked: at exactly half of the spacing slivers would be left."""
_BESIDE = 0.68
"""How open the band beside a line that was run is, as a share of one far from all: 3/4 on fine cells."""


def cells_for(crs: str | None, box: Box, spacing: float, most: int = 1_000_000) -> Frame:
    """Cells for distances to soundings around a box, an eighth of the spacing wide.

    Parameters
    ----------
    crs
        The reference system.
    box
        xmin, ymin, xmax, ymax.
    spacing
        Metres from one line to the next.
    most
        Cells at the most: of a large ground they are coarser.

    Returns
    -------
    Frame
        Where the cells lie.

    Raises
    ------
    MossError
        For more cells than memory holds.

    Examples
    --------
    >>> from moss_step.science.interpolate.coverage import cells_for
    >>> cells_for("EPSG:32628", (0.0, 0.0, 40.0, 20.0), 8.0).shape
    (20, 40)
    """
    plane = plane_around(box, crs)
    wide, high = (box[2] - box[0]) * plane.wide, (box[3] - box[1]) * plane.high
    least = math.sqrt(max(wide * high, max(wide, high) * spacing / _CELLS_A_LINE, 1e-12) / most)
    side = max(spacing / _CELLS_A_LINE, least)
    return frame_around(box, round_side(side) / max(plane.wide, plane.high), crs)


def cells_to_cover(frame: Frame, points: Shapes, area: Shapes | None) -> np.ndarray:
    """Cells that are to be covered: inside an outline, or without one the hull of the points.

    Parameters
    ----------
    frame
        Where the cells lie.
    points
        Places that were measured, in the same reference system.
    area
        The outline, in the same system.

    Returns
    -------
    np.ndarray
        Yes or no (rows, cols).

    Raises
    ------
    MossError
        Without an outline, when the points enclose nothing.

    Examples
    --------
    >>> from moss_step.science.interpolate.coverage import cells_for, cells_to_cover
    >>> from moss_step.science.sample import box
    >>> frame = cells_for(None, (0.0, 0.0, 4.0, 4.0), 8.0)
    >>> int(cells_to_cover(frame, box(0, 0, 2, 4), None).sum())
    8
    """
    if area is not None:
        return cells_inside(frame, area)
    hull = shapely.convex_hull(shapely.multipoints(shapely.get_coordinates(points.geometry)))
    if shapely.area(hull) == 0:
        raise MossError("The points lie on one line, or are one.", "Give the outline that is to be covered.")
    return cells_inside(frame, Shapes(np.array([hull], object), {}, points.crs))


def bearing_of_lines(frame: Frame, way: np.ndarray, held: Shapes) -> float:
    """The bearing along which lines are run.

    Parameters
    ----------
    frame
        Where the ground lies.
    way
        Corners of the way that was run (n, 2), in the reference system.
    held
        What is to be covered.

    Returns
    -------
    float
        Degrees, 0 to below 180: that of the way, or where it has none of the longer side of what is covered.

    Raises
    ------
    ValueError
        Without a place.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.interpolate.coverage import bearing_of_lines, cells_for
    >>> from moss_step.science.sample import box
    >>> frame = cells_for(None, (0.0, 0.0, 4.0, 2.0), 8.0)
    >>> bearing_of_lines(frame, np.zeros((1, 2)), box(0, 0, 4, 2))
    90.0
    """
    if not len(way):
        raise ValueError("no place")
    plane = Plane.of(frame)
    bearing = bearing_of_way(*plane.places(way[:, 0], way[:, 1]))
    return _along_longer_side(plane, held) if bearing is None else bearing


def _along_longer_side(plane: Plane, held: Shapes) -> float:
    """Bearing of the longer side of the narrowest box around shapes."""
    corners = np.column_stack(plane.places(*shapely.get_coordinates(held.geometry).T))
    ring = shapely.get_coordinates(shapely.oriented_envelope(shapely.multipoints(corners)))
    sides = np.diff(ring, axis=0)
    longest = sides[np.argmax(np.hypot(sides[:, 0], sides[:, 1]))] if len(sides) else np.array([0.0, 1.0])
    return round(math.degrees(math.atan2(longest[0], longest[1])), 9) % 180.0


def to_nearest(frame: Frame, inside: np.ndarray, x: np.ndarray, y: np.ndarray) -> np.ndarray:
    """Distance from the middle of each cell to the nearest place.

    Parameters
    ----------
    frame
        Where the cells lie.
    inside
        Cells that are asked for (rows, cols).
    x
        Eastings of the places, in the reference system (n).
    y
        Northings of the places (n).

    Returns
    -------
    np.ndarray
        Metres (rows, cols; float64), NaN in other cells.

    Raises
    ------
    ValueError
        Without a place.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.model.frame import Frame
    >>> from moss_step.science.interpolate.coverage import to_nearest
    >>> frame = Frame(1, 3, 0.0, 1.0, 1.0, 1.0, "EPSG:32628")
    >>> to_nearest(frame, np.ones((1, 3), bool), np.array([0.5]), np.array([0.5])).round(1).tolist()
    [[0.0, 1.0, 2.0]]
    """
    from scipy.spatial import cKDTree

    if not len(x):
        raise ValueError("no place")
    plane = Plane.of(frame)
    tree = cKDTree(np.column_stack(plane.places(x, y)))
    out = np.full(frame.shape, np.nan)
    out[inside] = tree.query(np.column_stack(plane.places(*frame.middles(inside))), workers=-1)[0]
    return out


def bearing_of_way(east: np.ndarray, north: np.ndarray) -> float | None:
    """The bearing along which a way runs to and fro.

    Parameters
    ----------
    east
        Metres to the east of its corners (n).
    north
        Metres to the north (n).

    Returns
    -------
    float or None
        0 to below 180 degrees: the mean of doubled bearings, each weighted by its length (Mardia and Jupp
        2000, Directional statistics, axial data); None for a way without one.

    Raises
    ------
    ValueError
        For corners of different number.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.interpolate.coverage import bearing_of_way
    >>> bearing_of_way(np.array([0.0, 0.0, 1.0, 1.0]), np.array([0.0, 9.0, 9.0, 0.0]))
    0.0
    """
    du, dv = np.diff(east), np.diff(north)
    length, doubled = np.hypot(du, dv), 2.0 * np.arctan2(du, dv)
    s, c, whole = (length * np.sin(doubled)).sum(), (length * np.cos(doubled)).sum(), length.sum()
    if whole == 0.0 or math.hypot(s, c) < _STRAIGHT * whole:
        return None
    return round(math.degrees(math.atan2(s, c)) / 2.0, 9) % 180.0


def next_line(
    far: np.ndarray,
    frame: Frame,
    spacing: float,
    bearing: float,
    start: tuple[float, float] | None = None,
) -> np.ndarray | None:
    """The straight line that comes nearest to most of what is not covered yet.

    Each line along the bearing has a band as wide as the spacing, in which the distances beyond half of the
    spacing, and up to the whole of it, are added up. It is the line with most, or, from where the boat is,
    the nearest one that is as open as the one beside a line that was run. It runs through the middle of the
    gap, and ends where that does.

    Parameters
    ----------
    far
        Metres to the nearest place (rows, cols), NaN where nothing is asked for.
    frame
        Where the cells lie.
    spacing
        Metres that lines are to be apart.
    bearing
        Degrees from north along which lines are run.
    start
        Where the boat is, in the reference system: the line begins at its end that is nearer.

    Returns
    -------
    np.ndarray or None
        Both ends in the reference system (2, 2), or None when nothing is farther than half of the spacing.

    Raises
    ------
    ValueError
        For a spacing of 0 or less.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.model.frame import Frame
    >>> from moss_step.science.interpolate.coverage import next_line, to_nearest
    >>> frame = Frame(20, 20, 0.0, 20.0, 1.0, 1.0, "EPSG:32628")
    >>> y = np.arange(0.5, 20.0)
    >>> far = to_nearest(frame, np.ones(frame.shape, bool), np.full(20, 4.5), y)
    >>> next_line(far, frame, 4.0, 0.0).round(1).tolist()
    [[9.5, 0.5], [9.5, 19.5]]
    >>> next_line(far, frame, 4.0, 0.0, start=(8.0, 19.5)).round(1).tolist()
    [[9.0, 19.5], [9.0, 0.5]]
    """
    if not spacing > 0.0:
        raise ValueError("lines need a spacing")
    gap = far > 0.5 * (spacing + min(frame.cell_metres))  # to the rim of a cell; NaN is no gap
    if not gap.any():
        return None
    plane, asked = Plane.of(frame), np.isfinite(far)
    s, c = math.sin(math.radians(bearing)), math.cos(math.radians(bearing))
    u, v = plane.places(*frame.middles(asked))
    along, across = u * s + v * c, u * c - v * s
    half = 0.5 * _CLOSER * spacing
    excess = np.clip(far[asked] - 0.5 * spacing, 0.0, half)
    here = None if start is None else np.concatenate(plane.places(*(np.array([a]) for a in start)))
    near = None if here is None else float(here[0] * c - here[1] * s)
    step = min(frame.cell_metres)
    at = _best_band(across, excess, step, half, near)
    band = (np.abs(across - at) <= half + step) & (excess > 0.0)
    low, high = _longest_run(along[band], excess[band], max(2.0 * max(frame.cell_metres), spacing))
    run = band & (along >= low) & (along <= high)
    at = float(across[run].min() + across[run].max()) / 2.0
    worst = np.flatnonzero(run)[np.argmax(excess[run])]
    if abs(across[worst] - at) > half:  # gaps to both sides, and what lies between is covered
        at = float(across[worst])
    beside = along[np.abs(across - at) <= step]
    if len(beside):  # it ends on the ground that is asked for
        low, high = np.clip((low, high), beside.min(), beside.max())
    ends = np.array([[a * s + at * c, a * c - at * s] for a in (low, high)])
    if here is not None and np.hypot(*(ends[1] - here)) < np.hypot(*(ends[0] - here)):
        ends = ends[::-1]
    return np.column_stack(plane.coordinates(ends[:, 0], ends[:, 1]))


def _best_band(
    across: np.ndarray, excess: np.ndarray, step: float, half_width: float, near: float | None
) -> float:
    """The middle of the band that holds most of the excess; from a place, the nearest one that is no more
    covered than the band beside a line that was run.
    """
    low = across.min()
    bins = ((across - low) / step).round().astype(np.int64)
    half = int(half_width / step)
    held, cells = (_sums(np.bincount(bins, weights), half) for weights in (excess, np.ones_like(excess)))
    middles = low + step * np.arange(len(held))
    if near is None:
        return float(middles[held >= held.max() * (1.0 - 1e-9)][0])
    share = np.divide(held, cells, where=cells > 0, out=np.zeros_like(held))
    open_ones = middles[share >= _BESIDE * share.max()]
    return float(open_ones[np.argmin(np.abs(open_ones - near))])


def _sums(held: np.ndarray, half: int) -> np.ndarray:
    """Sums over each number and as many as ``half`` to both sides of it."""
    total = np.concatenate([np.zeros(half + 1), np.cumsum(held), np.full(half, held.sum())])
    return np.asarray(total[2 * half + 1 :] - total[: len(held)])


def _longest_run(along: np.ndarray, excess: np.ndarray, apart: float) -> tuple[float, float]:
    """Ends of the run of gaps that holds most of the excess; a new run begins ``apart`` from the last."""
    order = np.argsort(along, kind="stable")
    along, excess = along[order], excess[order]
    cuts = np.concatenate([[0], np.flatnonzero(np.diff(along) > apart) + 1])
    best = int(np.argmax(np.add.reduceat(excess, cuts)))
    end = cuts[best + 1] if best + 1 < len(cuts) else len(along)
    return float(along[cuts[best]]), float(along[end - 1])
