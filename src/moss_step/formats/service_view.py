"""What a view needs of an elevation service, as one surface: its tiles at the cells that show, side by
side.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from pathlib import Path

import numpy as np

from moss_step.formats.cog import read_copy
from moss_step.formats.service import ServiceTile
from moss_step.formats.service_kept import Kept
from moss_step.model.errors import MossError
from moss_step.model.frame import Box, Frame, overlap, reference_system
from moss_step.model.progress import Progress
from moss_step.model.surface import Surface

MOST_CELLS, MOST_TILES = 16_000_000, 400
"""Cells of one view, and tiles that it may need, at the most."""


def tiles_in(tiles: Sequence[ServiceTile], box: Box, epsg: int) -> list[ServiceTile]:
    """The tiles of a system that share ground with a box."""
    return [t for t in tiles if t.epsg == epsg and overlap(t.box, box) and _shared(t.box, box) > 0]


def view(kept: Kept, tiles: Sequence[ServiceTile], box: Box, cell: float, progress: Progress) -> Surface:
    """The ground of a box at cells of some size or finer, from tiles of one system: fetched where it is not
    at hand.

    Raises MossError when no tile lies there, when it would be too large, or when the service does not answer
    as it should.
    """
    wanted = tiles_in(tiles, box, tiles[0].epsg) if tiles else []
    if not wanted:
        raise MossError("The service holds no ground here.", "Move to one of its tiles.")
    if len(wanted) > MOST_TILES:
        raise MossError(f"The view has {len(wanted):,} tiles.", f"Look at a part: {MOST_TILES} at the most.")
    whole = _around([t.box for t in wanted], box)
    area = (whole[2] - whole[0]) * (whole[3] - whole[1])
    cell = max(cell, math.sqrt(area / MOST_CELLS))
    read = []
    for k, tile in enumerate(wanted):
        part = progress.part(k / len(wanted), (k + 1) / len(wanted))
        path, level = kept.fetch(tile, cell, part)
        read.append(_checked(path, level, tile))
        progress.at((k + 1) / len(wanted), f"Fetched {k + 1} of {len(wanted)} tiles")
    return _side_by_side(read, whole)


def _checked(path: Path, level: int, tile: ServiceTile) -> Surface:
    """A copy of a tile that lies where the catalogue says."""
    surface = read_copy(path, level)
    frame, listed = surface.frame, reference_system(f"EPSG:{tile.epsg}")
    apart = max(abs(a - b) for a, b in zip(frame.box, tile.box, strict=True))
    if frame.system is None or frame.system.to_2d() != listed:
        raise MossError(
            f"The tile {tile.name} is in another reference system than its catalogue says.", "It is not used."
        )
    if apart > tile.cell:
        raise MossError(
            f"The tile {tile.name} lies {apart:,.0f} m from where its catalogue says.", "It is not used."
        )
    return surface


def _side_by_side(read: Sequence[Surface], box: Box) -> Surface:
    """Lay tiles into one grid of the coarsest of their cells: each takes what its middle lies in.

    Raises MossError for tiles of several units.
    """
    units = dict.fromkeys(s.unit for s in read)
    if len(units) > 1:
        named = " and in ".join(u.key for u in units)
        raise MossError(f"The tiles are measured in {named}.", "Look at those of one unit.")
    dx, dy = max(s.frame.dx for s in read), max(s.frame.dy for s in read)
    first = read[0].frame
    # The grid's corner lies on the cells of the first tile, so that these are taken over as they are.
    left = first.x0 + math.floor((box[0] - first.x0) / dx + 1e-6) * dx
    top = first.y0 - math.floor((first.y0 - box[3]) / dy + 1e-6) * dy
    rows = max(1, math.ceil((top - box[1]) / dy - 1e-6))
    cols = max(1, math.ceil((box[2] - left) / dx - 1e-6))
    frame = Frame(rows, cols, left, top, dx, dy, first.crs)
    out = np.full(frame.shape, np.nan, np.result_type(*(s.values.dtype for s in read)))
    x, y = left + (np.arange(cols) + 0.5) * dx, top - (np.arange(rows) + 0.5) * dy
    for surface in read:
        own = surface.frame
        r, c = np.floor((own.y0 - y) / own.dy).astype(int), np.floor((x - own.x0) / own.dx).astype(int)
        down, across = (r >= 0) & (r < own.rows), (c >= 0) & (c < own.cols)
        some, there = surface.values[np.ix_(r[down], c[across])], np.ix_(down, across)
        out[there] = np.where(np.isnan(some), out[there], some)
    return Surface(out, frame, read[0].unit)


def _around(boxes: Sequence[Box], box: Box) -> Box:
    """What some boxes share with one."""
    west, south, east, north = zip(*(_cut(b, box) for b in boxes), strict=True)
    return min(west), min(south), max(east), max(north)


def _cut(a: Box, b: Box) -> Box:
    return max(a[0], b[0]), max(a[1], b[1]), min(a[2], b[2]), min(a[3], b[3])


def _shared(a: Box, b: Box) -> float:
    west, south, east, north = _cut(a, b)
    return max(east - west, 0.0) * max(north - south, 0.0)
