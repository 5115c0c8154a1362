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
from moss_step.science.zones.kernels.tracing import close_rings, walk_rings
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
    return _made(corners, starts, of, owner[1:], frame, progress.part(0.4, 1.0))


def _made(
    corners: np.ndarray,
    starts: np.ndarray,
    of: np.ndarray,
    codes: np.ndarray,
    frame: Frame,
    progress: Progress,
) -> Parts:
    """Areas of rings: their corners, where each ring begins, and the part from 1 that it belongs to."""
    order = np.argsort(of, kind="stable")
    rings = np.empty(len(order), object)
    sizes = np.diff(starts)
    for first in range(0, len(order), _AT_ONCE):
        progress.at(0.5 * first / max(len(order), 1), "Making areas")
        last = min(first + _AT_ONCE, len(order))
        place = corners[starts[first] : starts[last]]
        xy = frame.places(place[:, ::-1])
        rings[first:last] = shapely.linearrings(
            xy, indices=np.repeat(np.arange(last - first), sizes[first:last])
        )
    rings, of = rings[order], of[order]
    geometry = np.empty(len(codes), object)
    for first in range(0, len(geometry), _AT_ONCE):
        progress.at(0.5 + 0.5 * first / len(geometry), "Making areas")
        last = min(first + _AT_ONCE, len(geometry))
        i, j = np.searchsorted(of, [first + 1, last + 1])
        geometry[first:last] = shapely.polygons(rings[i:j], indices=of[i:j] - 1 - first)
    return Parts(geometry, codes)


def joined_parts(
    corners: np.ndarray, codes: np.ndarray, frame: Frame, progress: Progress | None = None
) -> Parts:
    """Outlines from the corners of parts alone, in any order: what ``parts_of`` gives, without the cells.

    Along each line of the grid outlines to the same side come and go in turns: the corner that one leaves at
    and the next that one of its part comes to belong together.

    Parameters
    ----------
    corners
        Part from 1, row, column and turn of each corner, as ``kernels.tracing.list_corners`` gives them:
        int32 of shape (n, 4).
    codes
        The code of each part.
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
    >>> from moss_step.science.zones.kernels.tracing import list_corners
    >>> from moss_step.science.zones.tracing import joined_parts
    >>> cells = np.pad(np.array([[1, 1], [0, 1]], np.int32), 1)
    >>> corners = list_corners(cells, 1, 1)
    >>> joined_parts(corners, np.array([7]), ground([[1, 2], [3, 4]]).frame).geometry[0].area
    12.0
    """
    progress = progress or silent()
    progress.at(0.0, "Tracing outlines")
    part, row, col, turn = corners.T
    follows = np.empty(len(corners), np.int64)
    begins = np.empty(0, np.int64)
    for way in range(4):
        line, along = (row, col) if way % 2 == 0 else (col, row)
        order = np.lexsort((along, line, part))
        leaves, comes = order[turn[order] % 4 == way], order[turn[order] // 4 == way]
        follows[leaves] = comes
        begins = leaves if way == 0 else begins
    progress.at(0.3, "Tracing outlines")
    walk, starts = close_rings(follows, begins)
    of = part[walk[starts[:-1]]].astype(np.int32)
    return _made(corners[walk, 1:3], starts, of, codes, frame, progress.part(0.4, 1.0))


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
    return by_number(result, count, progress.part(0.8, 1.0))


def by_number(parts: Parts, count: int, progress: Progress | None = None) -> np.ndarray:
    """One area for each number from 1, from its parts.

    Parameters
    ----------
    parts
        Outlines with the number of each.
    count
        How many are asked for, or there are.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    np.ndarray
        Areas (``count``); empty for a number without parts.

    Examples
    --------
    >>> import numpy as np
    >>> import shapely
    >>> from moss_step.science.zones.tracing import Parts, by_number
    >>> by_number(Parts(np.array([shapely.box(0, 0, 1, 1)]), np.array([2])), 2)[0].is_empty
    True
    """
    order = np.argsort(parts.number, kind="stable")
    return collected(parts.geometry[order], parts.number[order] - 1, count, progress)


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
