"""Grids from the points of a cloud: ground on triangles, extremes, means and counts of cells, density
and spread.
"""

from __future__ import annotations

import math
from typing import Literal

import numpy as np

from moss_step.model.arrays import as_short
from moss_step.model.cloud import Cloud
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.frame import Frame
from moss_step.model.memory import check_grid
from moss_step.model.surface import Surface
from moss_step.model.units import COUNT, NONE
from moss_step.science.points import cells
from moss_step.science.points.gaps import filled
from moss_step.science.points.kernels.triangles import fill_triangles

What = Literal["ground", "first", "highest", "lowest", "mean", "count", "density", "spread", "intensity"]


def proposed_cell(cloud: Cloud) -> float:
    """A cell that the points warrant: a round number that holds one point on average.

    Parameters
    ----------
    cloud
        Points.

    Returns
    -------
    float
        Side of the cell, in units of the plan.

    Examples
    --------
    >>> from moss_step.science.points.grids import proposed_cell
    >>> from moss_step.science.sample import scattered
    >>> proposed_cell(scattered(40))
    1.0
    """
    frame = cloud.frame
    if frame is None:
        return 1.0
    wide, high = frame.cell_metres
    metres = (wide * high / (frame.dx * frame.dy)) ** 0.5
    spacing = (1.0 / max(cells.density(cloud), 1e-12)) ** 0.5 / metres
    power = 10.0 ** math.floor(math.log10(spacing))
    return float(next(k * power for k in (1.0, 2.0, 5.0, 10.0) if k * power >= spacing * 0.9))


def frame_for(cloud: Cloud, cell: float) -> Frame:
    """A frame of cells of some size around a cloud, whose corners are multiples of the cell.

    Parameters
    ----------
    cloud
        Points.
    cell
        Side of the cells, in units of the plan.

    Returns
    -------
    Frame
        Where the cells lie.

    Raises
    ------
    MossError
        For a cloud without points, and for more cells than memory holds.

    Examples
    --------
    >>> from moss_step.science.points.grids import frame_for
    >>> from moss_step.science.sample import scattered
    >>> frame_for(scattered(6), 2.0).shape
    (3, 3)
    """
    if cloud.bounds is None:
        raise MossError("There are no points to make a grid from.", "Take other classes or returns.")
    (xmin, ymin, xmax, ymax), _ = cloud.bounds
    west, north = math.floor(xmin / cell), math.ceil(ymax / cell)
    cols, rows = max(math.ceil(xmax / cell) - west, 1), max(north - math.floor(ymin / cell), 1)
    check_grid(rows * cols, f"A grid with cells of {cell:g}", "Take larger cells.")
    return Frame(rows, cols, west * cell, north * cell, cell, cell, cloud.crs)


def grid_points(cloud: Cloud, frame: Frame, what: What, fill: float) -> Surface:
    """A surface from points that were chosen before.

    Parameters
    ----------
    cloud
        The points that count.
    frame
        Where the cells lie.
    what
        ``ground``: heights on the triangles between all points (Delaunay 1934); ``first``, ``highest`` and
        ``lowest``: the extreme of each cell; ``mean``, ``spread`` (standard deviation), ``count``,
        ``density`` (points a square metre) and ``intensity`` (mean) of each cell.
    fill
        Metres up to which cells without a point are filled: longest side of a triangle, or distance from a
        cell with one. 0 leaves them, and of triangles leaves out none.

    Returns
    -------
    Surface
        Values; NaN where no point tells.

    Raises
    ------
    MossError
        Where there are too few points.
    AskedWronglyError
        Where the cloud has no intensity.

    Examples
    --------
    >>> from moss_step.science.points.grids import frame_for, grid_points
    >>> from moss_step.science.sample import scattered
    >>> grid_points(scattered(4), frame_for(scattered(4), 2.0), "highest", 0.0).values.tolist()
    [[10.0, 14.0], [10.0, 10.0]]
    """
    if what == "ground":
        return Surface(_on_triangles(cloud, frame, fill), frame, cloud.unit, "elevation")
    numbers = cells.cells_of(cloud, frame)
    if what in ("count", "density"):
        held = cells.counts(numbers, frame).astype(np.float32)
        if what == "count":
            return Surface(held, frame, COUNT, "count")
        return Surface((held / frame.row_areas[:, None]).astype(np.float32), frame, NONE, "density")
    unit, quantity = cloud.unit, "elevation"
    if what in ("first", "highest", "lowest"):
        values = cells.taken(cloud.z, cells.extremes(numbers, cloud.z, frame, what != "lowest"))
    elif what == "mean":
        values = cells.means(numbers, cloud.z, frame)
    elif what == "spread":
        values, quantity = cells.spreads(numbers, cloud.z, frame), "spread"
    else:
        if "intensity" not in cloud.attributes:
            raise AskedWronglyError("The cloud has no intensity.", "Choose another measure.")
        values, unit, quantity = cells.means(numbers, cloud.attributes["intensity"], frame), NONE, "intensity"
    return Surface(as_short(_filled_near(values, frame, fill)), frame, unit, quantity)


def _filled_near(values: np.ndarray, frame: Frame, fill: float) -> np.ndarray:
    """Cells within a distance of one with a value, filled smoothly."""
    empty = np.isnan(values)
    if fill <= 0.0 or not empty.any() or empty.all():
        return values
    from scipy.ndimage import distance_transform_edt  # loaded where it is used: it takes a while

    near = empty & (distance_transform_edt(empty, sampling=frame.cell_metres[::-1]) <= fill)
    return np.where(near, filled(values), values)


def _on_triangles(cloud: Cloud, frame: Frame, fill: float) -> np.ndarray:
    if len(cloud) < 3:
        raise MossError("Triangles need three points or more.", "Take other classes or returns.")
    from scipy.spatial import Delaunay, QhullError  # loaded where it is used: it takes a while

    cols = (np.asarray(cloud.x) - frame.x0) / frame.dx - 0.5
    rows = (frame.y0 - np.asarray(cloud.y)) / frame.dy - 0.5
    wide, high = frame.cell_metres
    try:
        triangles = Delaunay(np.column_stack([cols * wide, rows * high])).simplices
    except QhullError:
        raise MossError(
            "The points stand on one line: there is no surface between them.", "Take more points."
        ) from None
    out = np.full(frame.shape, np.nan)
    longest = fill if fill > 0 else np.inf
    z = np.ascontiguousarray(cloud.z, np.float64)
    fill_triangles(cols, rows, z, triangles.astype(np.int64), wide, high, longest, out)
    return as_short(out)


def heights_above(cloud: Cloud, ground: Surface) -> np.ndarray:
    """Height of each point above a ground, between the middles of the ground's cells.

    Each side carries its unit; both are brought to the cloud's.

    Parameters
    ----------
    cloud
        n points.
    ground
        Heights of the ground (rows, cols).

    Returns
    -------
    np.ndarray
        Heights (float32, n) in the unit of the cloud; NaN where the ground has no value.

    Raises
    ------
    MossError
        Where the reference systems differ.

    Examples
    --------
    >>> from moss_step.science.points.grids import heights_above
    >>> from moss_step.science.sample import ground, scattered
    >>> float(heights_above(scattered(4), ground([[9.0, 9.0], [9.0, 9.0]])).max())
    5.0
    """
    if (
        cloud.crs
        and ground.frame.crs
        and ground.frame.system != Frame(1, 1, 0.0, 0.0, 1.0, 1.0, cloud.crs).system
    ):
        raise MossError(
            "Cloud and ground lie in different reference systems.",
            "Reproject the ground to that of the cloud.",
        )
    from moss_step.science.relief.profile import values_at

    factor = ground.metres_per_height / (cloud.unit.factor if cloud.unit.kind == "length" else 1.0)
    floor = values_at(ground, cloud.x, cloud.y).astype(np.float64)
    return np.asarray(cloud.z - floor * factor, np.float32)
