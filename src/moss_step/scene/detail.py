"""Lines and rims of many shapes as arrays, with coarser copies for far views, so that any number of points
draws fast.
"""

from __future__ import annotations

import itertools
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import shapely

_FEW_POINTS = 5_000
_COARSER = 4.0
_FINEST_SHARE = 1 / 4096
_MOST_IN_VIEW = 40_000
_AT_ONCE = 50_000


@dataclass(frozen=True, eq=False)
class Outlines:
    """Parts (lines and rings) of shapes at one level of detail.

    ``xy`` (points, 2) holds the points of all parts one after another, ``starts`` (parts + 1) where each
    begins, ``owner`` (parts) whose part it is, ``boxes`` (parts, 4) its bounds, and ``detail`` the farthest
    that a line was moved, in units of the coordinates.
    """

    xy: np.ndarray
    starts: np.ndarray
    owner: np.ndarray
    boxes: np.ndarray
    detail: float

    def seen_in(self, box: tuple[float, float, float, float]) -> np.ndarray:
        """Which parts reach into a box (xmin, ymin, xmax, ymax), as a mask."""
        xmin, ymin, xmax, ymax = box
        b = self.boxes
        return np.asarray((b[:, 0] <= xmax) & (b[:, 2] >= xmin) & (b[:, 1] <= ymax) & (b[:, 3] >= ymin))

    def points_of(self, parts: np.ndarray) -> int:
        """How many points some parts (mask) have."""
        return int(np.diff(self.starts)[parts].sum())

    def line(self, shape: int) -> np.ndarray:
        """Points of the longest part of a shape; empty when it has none."""
        own = np.flatnonzero(self.owner == shape)
        if not len(own):
            return np.empty((0, 2))
        k = own[np.argmax(np.diff(self.starts)[own])]
        return self.xy[self.starts[k] : self.starts[k + 1]]


class Detail:
    """Outlines at several levels of detail, each a quarter as fine as the one before."""

    def __init__(self, geometry: np.ndarray) -> None:
        self._levels = [_finest(geometry)]
        finest = self._levels[0]
        span = np.ptp(finest.xy, axis=0).max() if len(finest.xy) else 0.0
        detail = span * _FINEST_SHARE / _COARSER
        while len(self._levels[-1].xy) > _FEW_POINTS and detail < span:
            self._levels.append(_coarser(self._levels[-1], detail))
            detail *= _COARSER

    def at(self, units_per_pixel: float) -> Outlines:
        """The coarsest level whose lines are moved by less than half a pixel."""
        return next((o for o in reversed(self._levels) if o.detail <= 0.5 * units_per_pixel), self._levels[0])

    def seen_in(
        self, box: tuple[float, float, float, float], units_per_pixel: float
    ) -> tuple[Outlines, np.ndarray]:
        """A level for a view and which of its parts it shows; a coarser one where lines lie so thick that
        none can be followed.
        """
        best = self._levels.index(self.at(units_per_pixel))
        for outlines in self._levels[best:]:
            seen = outlines.seen_in(box)
            if outlines.points_of(seen) <= _MOST_IN_VIEW:
                break
        return outlines, seen

    @cached_property
    def lengths(self) -> np.ndarray:
        """Points of each shape at the finest level: which lines are the longest."""
        finest = self._levels[0]
        return np.bincount(finest.owner, np.diff(finest.starts))


def _finest(geometry: np.ndarray) -> Outlines:
    parts, owner = shapely.get_parts(geometry, return_index=True)
    areas = shapely.get_type_id(parts) == shapely.GeometryType.POLYGON
    rings, of = shapely.get_rings(shapely.orient_polygons(parts[areas]), return_index=True)
    lines = np.isin(
        shapely.get_type_id(parts), (shapely.GeometryType.LINESTRING, shapely.GeometryType.LINEARRING)
    )
    pieces, owners = np.concatenate([rings, parts[lines]]), np.concatenate([owner[areas][of], owner[lines]])
    kept = ~shapely.is_empty(pieces)
    return _outlines(pieces[kept], owners[kept], 0.0)


def _coarser(finer: Outlines, detail: float) -> Outlines:
    counts = np.diff(finer.starts)
    pieces = []
    for first, last in _stretches(finer.starts):
        xy = finer.xy[finer.starts[first] : finer.starts[last]]
        lines = np.asarray(
            shapely.linestrings(xy, indices=np.repeat(np.arange(last - first), counts[first:last])), object
        )
        simple = np.asarray(shapely.simplify(lines, detail, preserve_topology=False), object)
        lost = shapely.get_num_points(simple) < 2
        simple[lost] = lines[lost]
        pieces.append(simple)
    return _outlines(np.concatenate(pieces), finer.owner, detail)


def _outlines(pieces: np.ndarray, owner: np.ndarray, detail: float) -> Outlines:
    starts = np.concatenate([[0], np.cumsum(shapely.get_num_points(pieces))]).astype(np.int64)
    xy = np.empty((starts[-1], 2))
    for first, last in _stretches(starts):
        xy[starts[first] : starts[last]] = shapely.get_coordinates(pieces[first:last])
    return Outlines(xy, starts, np.asarray(owner, np.int64), shapely.bounds(pieces).reshape(-1, 4), detail)


def _stretches(starts: np.ndarray) -> list[tuple[int, int]]:
    """Parts in stretches of some points: the geometry library holds the interpreter for as long as it is in
    one call.
    """
    cuts = np.unique(np.searchsorted(starts, np.arange(0, starts[-1], _AT_ONCE)))
    bounds = [*cuts.tolist(), len(starts) - 1]
    return list(itertools.pairwise(bounds))
