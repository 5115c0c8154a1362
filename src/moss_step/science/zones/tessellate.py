"""Covering an extent with hexagons, squares or triangles."""

from __future__ import annotations

import math
from typing import Literal

import numpy as np
import shapely

from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.frame import Frame
from moss_step.model.progress import Progress, silent
from moss_step.model.shapes import Shapes

Tile = Literal["hexagon", "square", "triangle"]
MOST_TILES = 1_000_000


def tessellate(
    frame: Frame, tile: Tile, spacing: float, keep: Shapes | None = None, progress: Progress | None = None
) -> Shapes:
    """Tiles that cover a frame's extent, ``spacing`` metres apart, with columns zone and area_m2.

    The spacing is the distance between the centres of neighbouring hexagons or squares (flat sides of a
    hexagon lie that far apart) and the side of a triangle. ``keep`` leaves only tiles that meet its areas.

    Parameters
    ----------
    frame
        Rows, columns, cell size and reference system of the grid.
    tile
        ``hexagon``, ``square`` or ``triangle``.
    spacing
        Metres between tiles.
    keep
        Which side stays, or areas that tiles must meet, as the type says.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    Shapes
        Areas with their columns.

    Raises
    ------
    AskedWronglyError
        For a spacing below a cell.
    MossError
        For more than a million tiles or degrees.

    Examples
    --------
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.zones.tessellate import tessellate
    >>> len(tessellate(tilted().frame, "square", 4.0))
    6
    """
    if frame.geographic:
        raise MossError(
            "The extent is in degrees, and tiles are measured in metres.",
            "Reproject it to a metric system first.",
        )
    width = max(frame.cell_metres)
    if spacing < width:
        raise AskedWronglyError(
            f"A spacing of {spacing:g} m is smaller than a cell ({width:.4g} m).", "Use a larger one."
        )
    size = spacing / frame.metres_per_unit
    xmin, ymin, xmax, ymax = frame.box
    rough = (
        (xmax - xmin)
        * (ymax - ymin)
        / (size * size * {"hexagon": 0.866, "square": 1.0, "triangle": 0.433}[tile])
    )
    if rough > MOST_TILES:
        raise MossError(f"That would make about {rough:,.0f} tiles.", "Use a larger spacing.")
    corners = {"hexagon": _hexagons, "square": _squares, "triangle": _triangles}[tile](frame, size)
    corners = corners[_meets(corners, frame.box, size)]
    geometry = np.empty(len(corners), object)
    for first, last in (progress or silent()).blocks(len(corners), 50_000, "Laying tiles"):
        geometry[first:last] = shapely.polygons(
            np.round(corners[first:last], 6)
        )  # neighbours share their corners exactly
    if keep is not None:
        geometry = _meeting(geometry, keep)
    count = len(geometry)
    area = shapely.area(geometry) * frame.metres_per_unit**2
    return Shapes(geometry, {"zone": np.arange(1, count + 1, dtype=np.int32), "area_m2": area}, frame.crs)


def _meets(corners: np.ndarray, box: tuple[float, float, float, float], size: float) -> np.ndarray:
    """Which tiles share more than their border with a box."""
    low, high = corners.min(axis=1), corners.max(axis=1)
    inside: np.ndarray = (low >= box[:2]).all(axis=1) & (high <= box[2:]).all(axis=1)
    near = np.flatnonzero(~inside & (low < box[2:]).all(axis=1) & (high > box[:2]).all(axis=1))
    shared = shapely.area(shapely.intersection(shapely.polygons(corners[near]), shapely.box(*box)))
    inside[near] = shared > 1e-9 * size * size
    return inside


def _meeting(geometry: np.ndarray, keep: Shapes) -> np.ndarray:
    mended = shapely.make_valid(keep.geometry)
    tree = shapely.STRtree(geometry)
    hits = np.unique(tree.query(mended, predicate="intersects")[1])
    if hits.size == 0:
        raise MossError("No tile meets the areas.", "Check that they lie on this ground.")
    return np.asarray(geometry[hits])


def _hexagons(frame: Frame, size: float) -> np.ndarray:
    """Corners of hexagons with a flat side at left and right: shape (n, 6, 2)."""
    xmin, ymin, xmax, ymax = frame.box
    side, rise = size / math.sqrt(3.0), size * math.sqrt(3.0) / 2.0
    rows, cols = int((ymax - ymin) / rise) + 3, int((xmax - xmin) / size) + 3
    r, c = np.mgrid[0:rows, 0:cols]
    x = xmin + (c + 0.5 * (r % 2)) * size - size / 2
    y = ymax - r * rise
    turns = np.radians(np.arange(30, 390, 60))
    ring = np.column_stack([np.cos(turns), np.sin(turns)]) * side
    middles: np.ndarray = np.stack([x.ravel(), y.ravel()], axis=1)[:, None, :] + ring[None]
    return middles


def _squares(frame: Frame, size: float) -> np.ndarray:
    xmin, ymin, xmax, ymax = frame.box
    r, c = np.mgrid[0 : math.ceil((ymax - ymin) / size), 0 : math.ceil((xmax - xmin) / size)]
    corner = np.stack([xmin + c.ravel() * size, ymax - r.ravel() * size], axis=1)
    ring = np.array([[0, 0], [size, 0], [size, -size], [0, -size]])
    corners: np.ndarray = corner[:, None, :] + ring[None]
    return corners


def _triangles(frame: Frame, size: float) -> np.ndarray:
    xmin, ymin, xmax, ymax = frame.box
    rise = size * math.sqrt(3.0) / 2.0
    r, c = np.mgrid[0 : math.ceil((ymax - ymin) / rise), 0 : 2 * math.ceil((xmax - xmin) / size) + 3]
    r, c = r.ravel(), c.ravel()
    left = xmin + (c - 2) * size / 2.0
    top = ymax - r * rise
    up = (r + c) % 2 == 0
    a = np.stack([left, np.where(up, top - rise, top)], axis=1)
    b = np.stack([left + size, np.where(up, top - rise, top)], axis=1)
    tip = np.stack([left + size / 2, np.where(up, top, top - rise)], axis=1)
    corners: np.ndarray = np.stack([a, b, tip], axis=1)
    return corners
