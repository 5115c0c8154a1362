"""Topographic position, landforms and local relief: a cell against the ground around it."""

from __future__ import annotations

import math
from typing import Literal

import numba
import numpy as np

from moss_step.model.class_map import NO_CLASS, ClassEntry, ClassMap
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.frame import Frame
from moss_step.model.mapped import blocks_of, grid_beside, let_go, map_of, row_by_row
from moss_step.model.progress import Progress, silent
from moss_step.model.surface import Surface
from moss_step.model.units import NONE
from moss_step.science.relief.gradient import slope
from moss_step.science.relief.kernels.position import A_HAIR, add_down, position_rows, sums_of_rows

Window = Literal["disk", "ring"]
MOST_ROWS, BOXES = 129, 9
"""A disk of up to 129 rows and columns is exact to the cell; a larger one is made of nine boxes, so that any
radius takes the same time.
"""
_PIECE = 512

_LANDFORMS = (
    "Deep valley",
    "Midslope drainage",
    "Upland drainage",
    "Open valley",
    "Plain",
    "Open slope",
    "Upper slope",
    "Ridge in valley",
    "Midslope ridge",
    "High ridge",
)
_LANDFORM_COLORS = (
    "#1F4E79",
    "#3F7CAC",
    "#7FB0C9",
    "#8FB58A",
    "#E4DFC0",
    "#CFC48A",
    "#C9A45C",
    "#B9783F",
    "#96532E",
    "#5F2B20",
)


_BEYOND = 16.0
"""A disk so many times the size of the ground covers all of it from every cell, each of its boxes, too."""


def disk_parts(radius: float, frame: Frame, sign: int = 1) -> np.ndarray:
    """A disk of a radius in metres as parts for ``strips_of_row``: exact while it is small, else of nine
    boxes.

    The boxes have their corners at even angles around the quarter circle, scaled so that their area is the
    disk's: the same shape however the ground is turned.

    Parameters
    ----------
    radius
        Reach in metres on the ground.
    frame
        Rows, columns, cell size and reference system of the grid.
    sign
        1, or -1 for a part that is taken away.

    Returns
    -------
    np.ndarray
        Rows of parts, int64.

    Examples
    --------
    >>> from moss_step.science.relief.position import disk_parts
    >>> from moss_step.science.sample import tilted
    >>> disk_parts(2.0, tilted().frame).tolist()  # row, first and last column, weight
    [[0.0, 2.0, 0.0, 1.0]]
    """
    radius = min(
        radius, _BEYOND * (float(frame.row_widths.max()) * frame.cols + float(frame.row_heights.sum()))
    )
    if 2 * int(radius / frame.finest * A_HAIR) + 1 <= MOST_ROWS:
        return np.array([[0.0, radius, 0.0, sign]])
    near, far, half = _boxes(radius)
    return np.column_stack([near, far, half, np.full(BOXES, float(sign))])


def _boxes(radius: float) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Where boxes begin and end to the north, from near to far, and half of their ever smaller widths."""
    angles = (np.arange(BOXES) + 0.5) * (math.pi / 2.0 / BOXES)
    far, half = np.sin(angles), np.cos(angles)
    near = np.concatenate([[0.0], far[:-1]])
    scale = radius * math.sqrt(math.pi / (4.0 * float(((far - near) * half).sum())))
    return near * scale, far * scale, half * scale


def disk_reach(radius: float) -> float:
    """How far parts of a disk reach: boxes with its area stand out a little.

    Parameters
    ----------
    radius
        Reach in metres on the ground.

    Returns
    -------
    float
        Metres.

    Examples
    --------
    >>> from moss_step.science.relief.position import disk_reach
    >>> round(disk_reach(100.0), 1)
    102.7
    """
    return float(max(side.max() for side in _boxes(radius)))


def _most_strips(parts: np.ndarray, frame: Frame) -> int:
    """The most strips that parts of disks can give in any row."""
    rows = 2.0 * parts[:, 1] / float(frame.row_heights.min()) + 3.0
    return int(np.where(parts[:, 2] == 0.0, rows, 2.0).sum())


def position(
    dem: Surface, radius: float, window: Window = "disk", inner: float = 0.0, standardised: bool = False,
    progress: Progress | None = None,
) -> Surface:  # fmt: skip
    """Topographic position: height less the mean height within ``radius`` metres on the ground (Weiss 2001);
    a ring leaves out the ground within ``inner`` metres. Standardised: over the standard deviation of the
    same ground.

    Works on running sums, so the time does not grow with the radius. A radius of up to 64 cells gives a disk
    exact to the cell, a larger one is made of boxes (``disk_parts``).

    Parameters
    ----------
    dem
        The ground: heights in its unit, of shape (rows, cols); NaN is no-data.
    radius
        Reach in metres on the ground.
    window
        ``disk`` or ``square``.
    inner
        Ground within so many metres is left out.
    standardised
        Whether it is divided by the standard deviation of the same ground.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    Surface
        In the unit of the heights, or deviations when standardised; float32.

    Raises
    ------
    AskedWronglyError
        For a radius below a cell.

    Source
    ------
    Weiss 2001, Topographic position and landforms analysis.

    Examples
    --------
    >>> from moss_step.science.relief.position import position
    >>> from moss_step.science.sample import bowl
    >>> round(float(position(bowl(), radius=2.0).values[2, 2]), 2)
    -1.6
    """
    progress = progress or silent()
    check_radius(radius, dem.frame)
    if window == "ring" and not 0 <= inner < radius:
        raise AskedWronglyError(
            f"An inner radius of {inner:g} m does not fit.", f"Use one from 0 to below {radius:g} m."
        )
    if window == "disk" and inner > 0:
        raise AskedWronglyError(
            "A disk has no inner radius.",
            "Choose a ring, or leave the inner radius empty.",
            "Use window=ring, or leave inner out.",
        )
    parts = disk_parts(radius, dem.frame)
    if window == "ring" and inner > 0:
        parts = np.vstack([parts, disk_parts(inner, dem.frame, -1)])
    rows, cols = dem.frame.shape
    _ = dem.metres_per_height
    level, _ = dem.levelled
    z, middle = level.values, level.summary.mean if level.summary.count else 0.0
    progress.at(0.05, "Summing up the ground")
    whole = dem.valid_count == z.size
    sums = _corner_sums(z, middle, 1)
    none = np.empty((0, 0))
    squares = _corner_sums(z, middle, 2) if standardised else none
    counts = none if whole else _corner_sums(z, middle, 0)
    out = np.empty((rows, cols), np.float32)
    disk = (parts, _most_strips(parts, dem.frame), dem.frame.row_widths, dem.frame.row_heights)
    for first, last in progress.blocks(rows, 512, "Working out position"):
        position_rows(z, middle, (sums, squares, counts), disk, (first, last), whole, out)
    return Surface(out, dem.frame, NONE if standardised else dem.unit, "position")


def check_radius(radius: float, frame: Frame) -> None:
    """Raise AskedWronglyError for a radius that reaches no neighbour.

    Parameters
    ----------
    radius
        Reach in metres on the ground.
    frame
        Rows, columns, cell size and reference system of the grid.

    Returns
    -------
    None
        Nothing.

    Raises
    ------
    AskedWronglyError
        For a radius that reaches no neighbour.

    Examples
    --------
    >>> from moss_step.science.relief.position import check_radius
    >>> from moss_step.science.sample import tilted
    >>> check_radius(4.0, tilted().frame)  # fits: nothing is raised
    """
    cell = frame.finest
    if radius * A_HAIR < cell:
        raise AskedWronglyError(
            f"A radius of {radius:g} m is less than a cell ({cell:.4g} m).", "Use a larger one."
        )


def _corner_sums(z: np.ndarray, middle: float, what: int) -> np.ndarray:
    sums = np.zeros((z.shape[0] + 1, z.shape[1] + 1))
    sums_of_rows(z, middle, what, sums)
    add_down(sums, 2 * numba.get_num_threads())
    return sums


def landforms(dem: Surface, small: float, large: float, progress: Progress | None = None) -> ClassMap:
    """Ten landforms from position at two radii (metres), each standardised over the grid, and slope.

    Weiss 2001 with the bounds of Jenness 2006: one standard deviation, and 5 degrees between plain and open
    slope.

    Parameters
    ----------
    dem
        The ground: heights in its unit, of shape (rows, cols); NaN is no-data.
    small
        The smaller radius in metres.
    large
        The larger radius in metres.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    ClassMap
        Codes 1 to 10, uint8.

    Raises
    ------
    AskedWronglyError
        For a small radius that is not below the large one.

    Source
    ------
    Weiss 2001, Topographic position and landforms analysis; Jenness 2006, for the bounds.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.relief.position import landforms
    >>> from moss_step.science.sample import ground
    >>> valley = ground(np.tile(np.abs(np.arange(21) - 10.0) * 3.0, (21, 1)))
    >>> forms = landforms(valley, small=4.0, large=12.0)
    >>> forms.entry(int(forms.codes[10, 10])).name
    'Deep valley'
    """
    if not small < large:
        raise AskedWronglyError(
            f"The small radius {small:g} m must be below the large one {large:g} m.", "Change one."
        )
    progress = progress or silent()
    near = _standardised(_places(dem, small, progress.part(0.0, 0.4)))
    far = _standardised(_places(dem, large, progress.part(0.4, 0.8)))
    steep = dem.by_rows(1, bool, lambda part: slope(part).values > 5.0)
    code = grid_beside(dem.values, np.uint8)
    for first, last in progress.part(0.9, 1.0).blocks(dem.frame.rows, 256, "Putting cells in classes"):
        code[first:last] = _landform_codes(near[first:last], far[first:last], steep[first:last])
        let_go(code, near, far, steep)
    named = zip(_LANDFORMS, _LANDFORM_COLORS, strict=True)
    entries = tuple(ClassEntry(i, name, color) for i, (name, color) in enumerate(named, 1))
    return ClassMap(code, dem.frame, entries)


def _places(dem: Surface, radius: float, progress: Progress) -> np.ndarray:
    """Position at a radius: of a ground that is mapped, some rows at a time with those around them."""
    if map_of(dem.values) is None:
        return position(dem, radius, progress=progress).values
    check_radius(radius, dem.frame)
    progress.at(0.0, "Working out position")
    margin = math.ceil(disk_reach(radius) / float(dem.frame.row_heights.min())) + 1

    def places(part: Surface) -> np.ndarray:
        progress.at(0.5, "Working out position")
        return position(part, radius).values

    return dem.by_rows(min(margin, dem.frame.rows), np.float32, places)


def _landform_codes(near: np.ndarray, far: np.ndarray, steep: np.ndarray) -> np.ndarray:
    code = np.select(
        [(near <= -1) & (far <= -1), (near <= -1) & (far < 1), near <= -1, (near < 1) & (far <= -1),
         (near < 1) & (far < 1) & ~steep, (near < 1) & (far < 1), near < 1, far <= -1, far < 1],
        np.arange(1, 10, dtype=np.uint8), np.uint8(10),
    )  # fmt: skip
    code[np.isnan(near) | np.isnan(far)] = NO_CLASS
    return code


def local_relief(dem: Surface, radius: float, progress: Progress | None = None) -> Surface:
    """Highest less lowest height of the cells whose centres lie within ``radius`` metres to each side, in the
    unit of the heights.

    Parameters
    ----------
    dem
        The ground: heights in its unit, of shape (rows, cols); NaN is no-data.
    radius
        Reach in metres on the ground.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    Surface
        In the unit of the heights, float32.

    Raises
    ------
    AskedWronglyError
        For a radius below a cell.

    Examples
    --------
    >>> from moss_step.science.relief.position import local_relief
    >>> from moss_step.science.sample import tilted
    >>> float(local_relief(tilted(), 2.0).values[1, 2])
    4.0
    """
    progress = progress or silent()
    _ = dem.metres_per_height
    check_radius(radius, dem.frame)
    level, _ = dem.levelled
    hole = np.isnan(level.values)
    high = _extreme(np.where(hole, -np.inf, level.values), radius, dem.frame, progress, True)
    low = _extreme(np.where(hole, np.inf, level.values), radius, dem.frame, progress, False)
    values = np.where(hole, np.nan, high - low).astype(np.float32)
    return Surface(values, dem.frame, dem.unit, "relief")


def _extreme(z: np.ndarray, radius: float, frame: Frame, progress: Progress, highest: bool) -> np.ndarray:
    """Highest (or lowest) value of the square around each cell, as many rows and columns as the radius holds
    at each row.
    """
    from scipy import ndimage  # slow to load, and only needed here

    run = ndimage.maximum_filter1d if highest else ndimage.minimum_filter1d
    out = np.empty_like(z)
    up = np.minimum(np.floor(radius / frame.row_heights * A_HAIR), frame.rows).astype(np.int64)
    aside = np.minimum(np.floor(radius / frame.row_widths * A_HAIR), frame.cols).astype(np.int64)
    cuts = (
        np.flatnonzero(np.diff(up) | np.diff(aside)) + 1
    )  # rows that look equally far: all of them but for degrees
    pieces = [
        (part[k], min(part[k] + _PIECE, part[-1] + 1))
        for part in np.split(np.arange(frame.rows), cuts)
        for k in range(0, len(part), _PIECE)
    ]
    for first, last in pieces:
        reach = int(up[first])
        progress.at((0.0 if highest else 0.5) + 0.5 * first / frame.rows, "Working out local relief")
        above = max(first - reach, 0)
        columns = run(z[above : last + reach], 2 * reach + 1, axis=0, mode="nearest")[
            first - above : last - above
        ]
        out[first:last] = run(columns, 2 * int(aside[first]) + 1, axis=1, mode="nearest")
    return out


def _standardised(values: np.ndarray) -> np.ndarray:
    if all(np.isnan(values[rows]).all() for rows in blocks_of(values)):
        raise MossError("The ground holds no values.", "Choose another ground.")
    with np.errstate(over="ignore", invalid="ignore"):
        mean, deviation = _mean_and_deviation(values)
    if not np.isfinite(deviation):
        raise MossError(
            "The heights are too large to be worked with.",
            "Check their unit, and which value stands for no-data.",
        )
    return row_by_row(lambda some: (some - mean) / (deviation or 1.0), values.dtype, values)


def _mean_and_deviation(values: np.ndarray) -> tuple[float, float]:
    """Mean and standard deviation in double precision, some rows at a time: the whole would take twice the
    memory once more.
    """
    count = total = square = 0.0
    blocks = [values[k : k + _PIECE] for k in range(0, len(values), _PIECE)]
    for some in blocks:
        count, total = (
            count + np.count_nonzero(~np.isnan(some)),
            total + float(np.nansum(some, dtype=np.float64)),
        )
    mean = total / count
    for some in blocks:
        square += float(np.nansum((some.astype(np.float64) - mean) ** 2))
    return mean, math.sqrt(square / count)
