"""Outlines of numbered cells as areas, each walked once along the borders of its cells.

Square tracing of borders with the area on the right hand: Pavlidis 1982, Algorithms for Graphics and Image
Processing, chapter 7. Where an area meets itself at a corner the walk turns to the left, so that outer and
inner rings touch there and do not cross (OGC Simple Features 1.2.1).
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
import shapely

from moss_step.model.frame import Frame
from moss_step.model.progress import Progress, silent
from moss_step.science.zones.kernels.tracing import walk_rings
from moss_step.science.zones.labelling import label_components

_AT_ONCE = 50_000
"""Rings that are made into areas between two reports."""


class Parts(NamedTuple):
    """Areas of cells that hang together along edges, in the order of their first cells, and the number of the
    cells of each.
    """

    geometry: np.ndarray
    number: np.ndarray


def parts_of(codes: np.ndarray, none: int, frame: Frame, progress: Progress | None = None) -> Parts:
    """Outline each set of cells of one code that hang together along edges; cells of the code ``none`` belong
    to no area.

    ``codes`` is an integer grid. Sets that touch at a corner only are areas of their own, so that every area
    is valid.

    Parameters
    ----------
    codes
        Integer codes of shape (rows, cols).
    none
        The code that belongs to nothing.
    frame
        Rows, columns, cell size and reference system of the grid.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    Parts
        Outlines with the code of each.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.sample import ground
    >>> from moss_step.science.zones.tracing import parts_of
    >>> codes = np.array([[0, 0], [255, 0]], np.uint8)
    >>> parts_of(codes, 255, ground([[1, 2], [3, 4]]).frame).geometry[0].area
    12.0
    """
    progress = progress or silent()
    progress.at(0.0, "Tracing outlines")
    parts, owner = label_components(codes, 4, none)
    with progress.pulse(len(codes), 0.1, 0.4, "Tracing outlines") as pulse:
        corners, starts, of = walk_rings(parts, pulse)
    order = np.argsort(of, kind="stable")
    rings = np.empty(len(order), object)
    sizes = np.diff(starts)
    for first in range(0, len(order), _AT_ONCE):
        progress.at(0.4 + 0.3 * first / max(len(order), 1), "Making areas")
        last = min(first + _AT_ONCE, len(order))
        place = corners[starts[first] : starts[last]]
        xy = np.stack([frame.x0 + place[:, 1] * frame.dx, frame.y0 - place[:, 0] * frame.dy], axis=1)
        rings[first:last] = shapely.linearrings(
            xy, indices=np.repeat(np.arange(last - first), sizes[first:last])
        )
    rings, of = rings[order], of[order]
    geometry = np.empty(len(owner) - 1, object)
    for first in range(0, len(geometry), _AT_ONCE):
        progress.at(0.7 + 0.3 * first / len(geometry), "Making areas")
        last = min(first + _AT_ONCE, len(geometry))
        i, j = np.searchsorted(of, [first + 1, last + 1])
        geometry[first:last] = shapely.polygons(rings[i:j], indices=of[i:j] - 1 - first)
    return Parts(geometry, owner[1:])


def areas_of(numbered: np.ndarray, frame: Frame, count: int, progress: Progress | None = None) -> np.ndarray:
    """Outlines of the cells of each number from 1 (``count`` geometries); an empty area for a number without
    cells.

    Parameters
    ----------
    numbered
        Number of the area of each cell, int32; 0 for none.
    frame
        Rows, columns, cell size and reference system of the grid.
    count
        How many are asked for, or there are.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    np.ndarray
        Areas (``count``).

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.sample import ground
    >>> from moss_step.science.zones.tracing import areas_of
    >>> numbered = np.array([[1, 1], [0, 2]], np.int32)
    >>> [area.area for area in areas_of(numbered, ground([[1, 2], [3, 4]]).frame, 2)]
    [8.0, 4.0]
    """
    progress = progress or silent()
    result = parts_of(numbered, 0, frame, progress.part(0.0, 0.8))
    order = np.argsort(result.number, kind="stable")
    return collected(result.geometry[order], result.number[order] - 1, count, progress.part(0.8, 1.0))


def collected(
    geometry: np.ndarray, place: np.ndarray, count: int, progress: Progress | None = None
) -> np.ndarray:
    """Areas by their places, in ascending order: one as it is, several as one area of several parts, none as
    an empty area.

    Parameters
    ----------
    geometry
        Geometries, in the system of the ground.
    place
        An int32 grid of zeros to work in, or places by number, as the type says.
    count
        How many are asked for, or there are.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    np.ndarray
        Areas (``count``).

    Examples
    --------
    >>> import numpy as np
    >>> import shapely
    >>> from moss_step.science.zones.tracing import collected
    >>> pair = np.array([shapely.box(0, 0, 1, 1), shapely.box(2, 0, 3, 1)])
    >>> collected(pair, np.array([0, 0]), 1)[0].geom_type
    'MultiPolygon'
    """
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
