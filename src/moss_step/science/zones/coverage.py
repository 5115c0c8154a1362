"""Cells of areas with the share of each that an area covers (exactextract), a large area in bands of rows so
that work on it reports and stops.
"""

from __future__ import annotations

import json
from collections.abc import Iterator
from typing import NamedTuple

import numpy as np
import shapely

from moss_step.model.frame import Frame
from moss_step.model.progress import Progress
from moss_step.model.surface import Surface

_PIECE = 1 << 19
"""Cells that the library is given at once."""
_SLIVER = 1e-9
"""Share of a cell below which only rounding, of a border that was cut, covers it."""
_ZONES = 500
"""Areas that it is given at once."""


class Covered(NamedTuple):
    """Values of the cells that an area covers in part at least, the share of each, and its row."""

    zone: int
    values: np.ndarray
    share: np.ndarray
    rows: np.ndarray


def covered(geometry: np.ndarray, surface: Surface, progress: Progress) -> Iterator[Covered]:
    """Give the covered cells with values of each area, area by area, and of a large one band by band.

    Parameters
    ----------
    geometry
        Geometries, in the system of the ground.
    surface
        Values of shape (rows, cols); NaN is no-data.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    Iterator[Covered]
        Cells, values and shares of one area or band at a time.

    Examples
    --------
    >>> from moss_step.model.progress import silent
    >>> from moss_step.science.sample import box, tilted
    >>> from moss_step.science.zones.coverage import covered
    >>> [part.share.tolist() for part in covered(box(0, 0, 3, 2).geometry, tilted(), silent())]
    [[1.0, 0.5]]
    """
    from exactextract import exact_extract  # loaded where it is used: it takes a while
    from exactextract.raster import NumPyRasterSource

    cols = surface.frame.cols
    source = NumPyRasterSource(np.asarray(surface.values, np.float64), *surface.frame.box, nodata=np.nan)
    pieces = [piece for k, area in enumerate(geometry) for piece in _pieces(k, area, surface.frame)]
    ends = np.cumsum([piece.cells for piece in pieces])
    start = 0
    while start < len(pieces):
        progress.at(start / len(pieces), "Zone by zone")
        before = ends[start - 1] if start else 0
        end = min(max(int(np.searchsorted(ends, before + _PIECE, side="right")), start + 1), start + _ZONES)
        some = [
            {"type": "Feature", "properties": {}, "geometry": json.loads(shapely.to_geojson(p.area))}
            for p in pieces[start:end]
        ]
        for piece, result in zip(
            pieces[start:end], exact_extract(source, some, ["values", "coverage", "cell_id"]), strict=True
        ):
            of = result["properties"]
            met = of["coverage"] > _SLIVER
            yield Covered(piece.zone, of["values"][met], of["coverage"][met], of["cell_id"][met] // cols)
        start = end


class _Piece(NamedTuple):
    """An area or a band of it, the number of the area, and about how many cells it meets."""

    zone: int
    area: shapely.Geometry
    cells: int


def _pieces(zone: int, area: shapely.Geometry, frame: Frame) -> Iterator[_Piece]:
    """Give an area whole, or cut along borders of rows when it is large."""
    west, south, east, north = shapely.bounds(
        shapely.intersection(shapely.envelope(area), shapely.box(*frame.box))
    )
    if not west <= east:
        return
    first, last = int((frame.y0 - north) / frame.dy), min(int((frame.y0 - south) / frame.dy) + 1, frame.rows)
    across = int((east - west) / frame.dx) + 2
    step = max(1, _PIECE // across)
    if last - first <= step:
        yield _Piece(zone, area, (last - first) * across)
        return
    for top in range(first, last, step):
        band = shapely.clip_by_rect(
            area, west, frame.y0 - (top + step) * frame.dy, east, frame.y0 - top * frame.dy
        )
        if shapely.get_dimensions(band) == 2:
            yield _Piece(zone, band, step * across)
