"""Rounding the stepped outlines of cells by cutting corners, without opening seams between neighbours."""

from __future__ import annotations

import itertools

import numpy as np
import shapely

from moss_step.model.frame import Frame
from moss_step.model.progress import Progress, silent
from moss_step.model.typed import as_kind

_OUTSIDE = -1


def fixed_corners(codes: np.ndarray) -> np.ndarray:
    """Corners of the grid that stay where they are: those on its edge, and where three or more outlines meet.

    Gives a boolean array of (rows + 1, cols + 1).

    Parameters
    ----------
    codes
        Integer codes of shape (rows, cols).

    Returns
    -------
    np.ndarray
        Booleans of (rows + 1, cols + 1).

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.zones.smoothing import fixed_corners
    >>> fixed_corners(np.array([[0, 0, 1], [0, 0, 1], [2, 2, 2]], np.uint8))[2].tolist()  # where three meet
    [True, False, True, True]
    """
    framed = np.pad(codes.astype(np.int32), 1, constant_values=_OUTSIDE)
    a, b, c, d = framed[:-1, :-1], framed[:-1, 1:], framed[1:, :-1], framed[1:, 1:]
    straight = ((a == b) & (c == d)) | ((a == c) & (b == d))
    bend = ((a == b).astype(np.int8) + (a == c) + (a == d) == 2) | ((b == c) & (c == d))
    pins: np.ndarray = ~(straight | bend)
    pins[[0, -1], :] = True
    pins[:, [0, -1]] = True
    return pins


def smoothed(
    area: shapely.Geometry, pins: np.ndarray, frame: Frame, rounds: int, progress: Progress | None = None
) -> shapely.Polygon:
    """Round an outline of cells: Chaikin 1974, An algorithm for high-speed curve generation, between fixed
    corners.

    Two areas that share a line between fixed corners are rounded alike, so they still share it.

    Parameters
    ----------
    area
        An outline of cells.
    pins
        Corners that stay, boolean of (rows + 1, cols + 1).
    frame
        Rows, columns, cell size and reference system of the grid.
    rounds
        Rounds of corner cutting.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    shapely.Polygon
        The outline rounded.

    Source
    ------
    Chaikin 1974, Computer Graphics and Image Processing 3.

    Examples
    --------
    >>> import numpy as np
    >>> import shapely
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.zones.smoothing import smoothed
    >>> smoothed(shapely.box(0, 0, 4, 4), np.zeros((5, 6), bool), tilted().frame, 1).area
    14.0
    """
    polygon = as_kind(area, shapely.Polygon)
    rings, progress = [], progress or silent()
    for k, ring in enumerate(outlines := (polygon.exterior, *polygon.interiors)):
        progress.at(k / len(outlines), "Rounding outlines")
        rings.append(_ring(np.asarray(ring.coords), pins, frame, rounds))
    return shapely.Polygon(rings[0], rings[1:])


def _ring(xy: np.ndarray, pins: np.ndarray, frame: Frame, rounds: int) -> np.ndarray:
    points = _every_corner(np.rint(frame.in_cells(xy)).astype(np.int64))[:-1]
    fixed = np.flatnonzero(pins[points[:, 1], points[:, 0]])
    if fixed.size == 0:
        lines = [_cut(_bends(np.vstack([points, points[:1]]), closed=True), rounds, closed=True)]
    else:
        points = np.roll(points, -fixed[0], axis=0)
        cuts = [*(fixed - fixed[0]), len(points)]
        whole = np.vstack([points, points[:1]])
        arcs = [whole[a : b + 1] for a, b in itertools.pairwise(cuts)]
        lines = [_cut(_bends(arc, closed=False), rounds, closed=False)[:-1] for arc in arcs]
    line = np.vstack(lines)
    return frame.places(line)


def _every_corner(points: np.ndarray) -> np.ndarray:
    """Put a point at every corner of the grid along a ring that runs along rows and columns."""
    steps = np.diff(points, axis=0)
    lengths = np.abs(steps).sum(axis=1)
    which = np.repeat(np.arange(len(steps)), lengths)
    along = np.arange(lengths.sum()) - np.repeat(np.cumsum(lengths) - lengths, lengths)
    return np.vstack([points[which] + np.sign(steps)[which] * along[:, None], points[-1:]])


def _bends(points: np.ndarray, closed: bool) -> np.ndarray:
    """Leave out the points where a line runs straight on; its ends stay, unless it is closed."""
    steps = np.diff(points, axis=0)
    turns = (steps[1:] != steps[:-1]).any(axis=1)
    first = bool((steps[0] != steps[-1]).any()) if closed else True
    kept: np.ndarray = points[np.concatenate([[first], turns, [not closed]])].astype(np.float64)
    return kept


def _cut(points: np.ndarray, rounds: int, closed: bool) -> np.ndarray:
    for _ in range(rounds):
        after = np.roll(points, -1, axis=0) if closed else points[1:]
        before = points if closed else points[:-1]
        pairs = np.stack([0.75 * before + 0.25 * after, 0.25 * before + 0.75 * after], axis=1).reshape(-1, 2)
        points = (
            pairs
            if closed
            else np.vstack([points[:1], pairs[1:-1], points[-1:]])
            if len(pairs) > 2
            else points
        )
    return points
