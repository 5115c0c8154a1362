"""Bases that earthwork is reckoned against, from the ground along an outline."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
import shapely

from moss_step.model.errors import MossError
from moss_step.model.frame import Frame
from moss_step.model.mapped import blocks_of, grid_beside, let_go, new_grid
from moss_step.model.surface import Surface
from moss_step.science.earthwork.outline import Outline, Plane, rings_of
from moss_step.science.interpolate import plane as ground_plane
from moss_step.science.interpolate.places import Measured, one_a_place
from moss_step.science.interpolate.tin import on_grid, triangulate
from moss_step.science.relief.profile import values_at

_MOST_ALONG, _FOR_PLANE = 3_000, 600
"""Places along the rims of an outline at the most, and those that tell a plane."""
_ON_EDGE = 1e-6
"""Cells from the edge of the ground within which a place stands on it."""
_LEAST_KNOWN = 0.5
"""Share of a rim that has heights: with less of it a base would be made up."""


@dataclass(frozen=True, eq=False)
class Rim:
    """Heights along the rims of an outline (n each): places in the reference system, and heights; how much of
    the rims has any.
    """

    x: np.ndarray
    y: np.ndarray
    z: np.ndarray
    known: float


def rim_of(surface: Surface, outline: Outline, most: int = _MOST_ALONG) -> Rim:
    """Heights of a surface along the rims of an outline, a place a cell or closer, and each corner.

    Parameters
    ----------
    surface
        Heights (rows, cols); NaN is no-data.
    outline
        The outline over its frame.
    most
        About how many places beside the corners.

    Returns
    -------
    Rim
        Places with a height.

    Raises
    ------
    MossError
        When less than half of the rims has heights.

    Examples
    --------
    >>> import shapely
    >>> from moss_step.science.earthwork.bases import rim_of
    >>> from moss_step.science.earthwork.outline import Outline
    >>> from moss_step.science.sample import tilted
    >>> ground = tilted()
    >>> rim = rim_of(ground, Outline(ground.frame, shapely.box(2, 2, 8, 4)))
    >>> float(rim.known)
    1.0
    """
    frame, xy = surface.frame, rim_places(surface.frame, outline, most)
    z = values_at(surface, *_within(frame, xy)).astype(np.float64)
    there = np.isfinite(z)
    known = float(there.mean())
    if known < _LEAST_KNOWN:
        raise MossError(
            f"Of the outline's edge only {known:.0%} lies on ground that was measured.",
            "Draw it where there are heights, or take a level as the base.",
        )
    return Rim(xy[there, 0], xy[there, 1], z[there], known)


def rim_places(frame: Frame, outline: Outline, most: int = _MOST_ALONG) -> np.ndarray:
    """Places along the rims of an outline, a cell apart or less, and each corner.

    Parameters
    ----------
    frame
        Where the cells lie.
    outline
        The outline over it.
    most
        About how many places beside the corners.

    Returns
    -------
    np.ndarray
        Places in the reference system (n, 2).

    Examples
    --------
    >>> import shapely
    >>> from moss_step.science.earthwork.bases import rim_places
    >>> from moss_step.science.earthwork.outline import Outline
    >>> from moss_step.science.sample import tilted
    >>> rim_places(tilted().frame, Outline(tilted().frame, shapely.box(2, 2, 6, 6))).tolist()[:2]
    [[2.0, 2.0], [2.0, 4.0]]
    """
    step = max(min(frame.dx, frame.dy), shapely.length(outline.areas) / most)
    rings = shapely.segmentize(rings_of(outline.areas), step)
    places = np.unique(shapely.get_coordinates(rings).view(np.complex128)[:, 0])
    return np.column_stack([places.real, places.imag])


def _within(frame: Frame, xy: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Places on the very edge of the ground, just within it."""
    xmin, ymin, xmax, ymax = frame.box
    least = _ON_EDGE * frame.dx, _ON_EDGE * frame.dy
    x = np.where(np.abs(xy[:, 0] - xmax) <= least[0], xmax - least[0], xy[:, 0])
    y = np.where(np.abs(xy[:, 1] - ymin) <= least[1], ymin + least[1], xy[:, 1])
    x = np.where(np.abs(x - xmin) <= least[0], xmin + least[0], x)
    return x, np.where(np.abs(y - ymax) <= least[1], ymax - least[1], y)


def edge_base(surface: Surface, outline: Outline) -> np.ndarray:
    """The base between the heights of an outline's own edge, on triangles.

    Parameters
    ----------
    surface
        Heights (rows, cols).
    outline
        The outline over its frame.

    Returns
    -------
    np.ndarray
        Heights (rows, cols; the surface's type), NaN away from the outline.

    Raises
    ------
    MossError
        When the edge has no heights.

    Examples
    --------
    >>> import shapely
    >>> from moss_step.science.earthwork.bases import edge_base
    >>> from moss_step.science.earthwork.outline import Outline
    >>> from moss_step.science.sample import tilted
    >>> ground = tilted()
    >>> base = edge_base(ground, Outline(ground.frame, shapely.box(2, 2, 8, 6)))
    >>> bool(abs(base[1, 2] - ground.values[1, 2]) < 1e-4)
    True
    """
    base = grid_beside(surface.values, np.result_type(surface.values, np.float32), np.nan)
    _lay_edge(surface, outline, base[outline.part])
    return base


def edge_part(surface: Surface, outline: Outline) -> np.ndarray:
    """The same in the part around the outline alone, mapped where it is large.

    Parameters
    ----------
    surface
        Heights (rows, cols).
    outline
        The outline over its frame.

    Returns
    -------
    np.ndarray
        Heights of the part (rows, cols; the surface's type).

    Raises
    ------
    MossError
        When the edge has no heights.

    Examples
    --------
    >>> import shapely
    >>> from moss_step.science.earthwork.bases import edge_part
    >>> from moss_step.science.earthwork.outline import Outline
    >>> from moss_step.science.sample import tilted
    >>> edge_part(tilted(), Outline(tilted().frame, shapely.box(2, 2, 6, 6))).shape
    (2, 2)
    """
    part = new_grid(outline.window.shape, np.result_type(surface.values, np.float32))
    _lay_edge(surface, outline, part)
    return part


def _lay_edge(surface: Surface, outline: Outline, part: np.ndarray) -> None:
    """Lay the base between the heights of an edge into the part around its outline."""
    rim, window = rim_of(surface, outline), outline.window
    low = float(rim.z.min())
    held = one_a_place(Measured(rim.x, rim.y, rim.z - low))
    tin = triangulate(held, ground_plane.Plane.of(window), window.crs, surface.unit)
    laid = on_grid(tin, window).values
    for rows in blocks_of(part):
        part[rows] = laid[rows]
        part[rows] += part.dtype.type(low)
        let_go(part, laid)
    _fill_beside(part, outline.touched(), rim, window)


def _fill_beside(part: np.ndarray, inside: np.ndarray, rim: Rim, window: Frame) -> None:
    """Cells whose middle lies outside of the outline, though a part of them does not, take the height of the
    rim beside them.
    """
    from scipy.spatial import cKDTree

    plane = ground_plane.Plane.of(window)
    tree = cKDTree(np.column_stack(plane.places(rim.x, rim.y)))
    reach = 1.5 * max(window.cell_metres)
    for rows in blocks_of(part):
        some = part[rows]
        missing = np.isnan(some) & inside[rows]
        if missing.any():
            at = plane.places(*window.middles(missing, rows.start))
            off, near = tree.query(np.column_stack(at), distance_upper_bound=reach)
            there = np.isfinite(off)
            some[missing] = np.where(there, rim.z[np.where(there, near, 0)], np.nan)
        let_go(part, inside)


def plane_base(surface: Surface, outline: Outline) -> Plane:
    """The plane that comes nearest to the heights of an outline's edge, by least squares.

    Parameters
    ----------
    surface
        Heights (rows, cols).
    outline
        The outline over its frame.

    Returns
    -------
    Plane
        In columns and rows of the surface.

    Raises
    ------
    MossError
        When the edge has no heights.

    Examples
    --------
    >>> import shapely
    >>> from moss_step.science.earthwork.bases import plane_base
    >>> from moss_step.science.earthwork.outline import Outline
    >>> from moss_step.science.sample import tilted
    >>> ground = tilted()
    >>> made = plane_base(ground, Outline(ground.frame, shapely.box(2, 2, 8, 6)))
    >>> round(made.by_column, 6), round(abs(made.by_row), 6)
    (2.0, 0.0)
    """
    rim, frame = rim_of(surface, outline, _FOR_PLANE), surface.frame
    u, v = (rim.x - frame.x0) / frame.dx, (frame.y0 - rim.y) / frame.dy
    middle = u.mean(), v.mean()
    table = np.column_stack([np.ones(len(u)), u - middle[0], v - middle[1]])
    (height, by_column, by_row), *_ = np.linalg.lstsq(table, rim.z, rcond=None)
    corner = height - by_column * middle[0] - by_row * middle[1]
    return Plane(float(corner), float(by_column), float(by_row))


def lowest_in(surface: Surface, outline: Outline) -> float:
    """The lowest height of the cells that an outline covers, in part or whole.

    Parameters
    ----------
    surface
        Heights (rows, cols).
    outline
        The outline over its frame.

    Returns
    -------
    float
        The height, in the surface's unit.

    Raises
    ------
    MossError
        When none is there.

    Examples
    --------
    >>> import shapely
    >>> from moss_step.science.earthwork.bases import lowest_in
    >>> from moss_step.science.earthwork.outline import Outline
    >>> from moss_step.science.sample import tilted
    >>> lowest_in(tilted(), Outline(tilted().frame, shapely.box(2, 2, 8, 6)))
    2.0
    """
    part, shares = surface.values[outline.part], outline.own_shares()
    lowest = math.inf
    for rows in blocks_of(part):
        inside = part[rows][(shares[rows] > 0) & np.isfinite(part[rows])]
        lowest = min(lowest, float(inside.min(initial=math.inf)))
        let_go(part, shares)
    if lowest == math.inf:
        raise MossError("No height lies in the outline.", "Draw it where there are heights.")
    return lowest
