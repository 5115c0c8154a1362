"""Outlines of numbered cells as areas, each walked once along the borders of its cells.

Square tracing of borders with the area on the right hand: Pavlidis 1982, Algorithms for Graphics and Image Processing, chapter 7. Where an
area meets itself at a corner the walk turns to the left, so that outer and inner rings touch there and do not cross (OGC Simple
Features 1.2.1).
"""

from __future__ import annotations

from typing import NamedTuple

import numba
import numpy as np
import shapely

from moss_step.model.frame import Frame
from moss_step.model.progress import Progress, silent
from moss_step.science.zones.labelling import label_components

_AT_ONCE = 50_000
"""Rings that are made into areas between two reports."""
_DOWN, _RIGHT = np.array([0, 1, 0, -1]), np.array([1, 0, -1, 0])
"""Steps along the borders to the east, south, west and north, in rows and columns of corners."""
_LEFT = np.array([[-1, 0], [0, 0], [0, -1], [-1, -1]])
"""The cell ahead on the left hand, from the corner that is met on the way east, south, west and north; the next is the one on the right."""


class Parts(NamedTuple):
    """Areas of cells that hang together along edges, in the order of their first cells, and the number of the cells of each."""

    geometry: np.ndarray
    number: np.ndarray


@numba.njit(cache=True, nogil=True)
def _is(parts, r, c, k):  # type: ignore[no-untyped-def]  # numba infers the types
    return 0 <= r < parts.shape[0] and 0 <= c < parts.shape[1] and parts[r, c] == k


@numba.njit(cache=True, nogil=True)
def _walk_ring(parts, walked, r, c, corners, count):  # type: ignore[no-untyped-def]  # numba infers the types
    """Add the corners of the ring that runs east from one over the top of its cell; gives the corners, and how many there are then."""
    k, start, way = parts[r, c], (r, c), 0
    corners[count, 0], corners[count, 1] = r, c
    count += 1
    while True:
        if way == 0:
            walked[r, c] = True
        r, c = r + _DOWN[way], c + _RIGHT[way]
        left, right = _LEFT[way], _LEFT[(way + 1) % 4]
        turn = 3 if _is(parts, r + left[0], c + left[1], k) else 0 if _is(parts, r + right[0], c + right[1], k) else 1
        way = (way + turn) % 4
        if turn != 0:
            if count + 1 >= corners.shape[0]:
                corners = np.concatenate((corners, np.empty_like(corners)))
            corners[count, 0], corners[count, 1] = r, c
            count += 1
        if (r, c) == start and way == 0:
            return corners, count


@numba.njit(cache=True, nogil=True)
def _walk_rings(parts, pulse):  # type: ignore[no-untyped-def]  # numba infers the types
    """Corners of all rings, closed, where each begins, and the part that it belongs to: the outer ring of a part comes before its inner ones."""
    rows, cols = parts.shape
    walked = np.zeros((rows, cols), np.bool_)
    corners, count = np.empty((4096, 2), np.int32), 0
    starts, owner, rings = np.empty(1024, np.int64), np.empty(1024, np.int32), 0
    for r in range(rows):
        if pulse[1]:
            break
        pulse[0] = r
        for c in range(cols):
            if parts[r, c] == 0 or walked[r, c] or (r > 0 and parts[r - 1, c] == parts[r, c]):
                continue
            if rings + 1 >= starts.size:
                starts, owner = np.append(starts, np.empty_like(starts)), np.append(owner, np.empty_like(owner))
            starts[rings], owner[rings] = count, parts[r, c]
            rings += 1
            corners, count = _walk_ring(parts, walked, r, c, corners, count)
    starts[rings] = count
    return corners[:count], starts[: rings + 1], owner[:rings]


def parts_of(codes: np.ndarray, none: int, frame: Frame, progress: Progress | None = None) -> Parts:
    """Outline each set of cells of one code that hang together along edges; cells of the code ``none`` belong to no area.

    ``codes`` is an integer grid. Sets that touch at a corner only are areas of their own, so that every area is valid.
    """
    progress = progress or silent()
    progress.at(0.0, "Tracing outlines")
    parts, owner = label_components(codes, 4, none)
    with progress.pulse(len(codes), 0.1, 0.4, "Tracing outlines") as pulse:
        corners, starts, of = _walk_rings(parts, pulse)
    order = np.argsort(of, kind="stable")
    rings = np.empty(len(order), object)
    sizes = np.diff(starts)
    for first in range(0, len(order), _AT_ONCE):
        progress.at(0.4 + 0.3 * first / max(len(order), 1), "Making areas")
        last = min(first + _AT_ONCE, len(order))
        place = corners[starts[first] : starts[last]]
        xy = np.stack([frame.x0 + place[:, 1] * frame.dx, frame.y0 - place[:, 0] * frame.dy], axis=1)
        rings[first:last] = shapely.linearrings(xy, indices=np.repeat(np.arange(last - first), sizes[first:last]))
    rings, of = rings[order], of[order]
    geometry = np.empty(len(owner) - 1, object)
    for first in range(0, len(geometry), _AT_ONCE):
        progress.at(0.7 + 0.3 * first / len(geometry), "Making areas")
        last = min(first + _AT_ONCE, len(geometry))
        i, j = np.searchsorted(of, [first + 1, last + 1])
        geometry[first:last] = shapely.polygons(rings[i:j], indices=of[i:j] - 1 - first)
    return Parts(geometry, owner[1:])


def areas_of(numbered: np.ndarray, frame: Frame, count: int, progress: Progress | None = None) -> np.ndarray:
    """Outlines of the cells of each number from 1 (``count`` geometries); an empty area for a number without cells."""
    progress = progress or silent()
    found = parts_of(numbered, 0, frame, progress.part(0.0, 0.8))
    order = np.argsort(found.number, kind="stable")
    return collected(found.geometry[order], found.number[order] - 1, count, progress.part(0.8, 1.0))


def collected(geometry: np.ndarray, place: np.ndarray, count: int, progress: Progress | None = None) -> np.ndarray:
    """Areas by their places, in ascending order: one as it is, several as one area of several parts, none as an empty area."""
    out = np.full(count, shapely.MultiPolygon(), object)
    for first, last in (progress or silent()).blocks(count, _AT_ONCE, "Putting areas together"):
        i, j = np.searchsorted(place, [first, last])
        some, at = geometry[i:j], place[i:j]
        single = np.bincount(at - first, minlength=last - first)[at - first] == 1
        out[at[single]] = some[single]
        if not single.all():
            several, index = np.unique(at[~single], return_inverse=True)
            out[several] = shapely.multipolygons(some[~single], indices=index)
    return out
