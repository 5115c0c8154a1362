"""How well places cover a ground: the distance to the nearest, and the line that is to be run next."""

from __future__ import annotations

import math

import numpy as np

from moss_step.model.frame import Frame
from moss_step.science.interpolate.plane import Plane

_STRAIGHT = 0.5
"""How alike the bearings of a way must be before lines are said to run along it."""
_CLOSER = 0.95
"""Lines are planned so much closer than asked: at exactly half of the spacing slivers would be left."""
_BESIDE = 0.68
"""How open the band beside a line that was run is, as a share of one far from all: 3/4 on fine cells."""


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
    out[inside] = tree.query(np.column_stack(plane.places(*_middles(frame, inside))), workers=-1)[0]
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
    u, v = plane.places(*_middles(frame, asked))
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


def _middles(frame: Frame, wanted: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    rows, cols = np.nonzero(wanted)
    return frame.x0 + (cols + 0.5) * frame.dx, frame.y0 - (rows + 0.5) * frame.dy
