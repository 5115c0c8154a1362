"""Ground found among the points of a cloud, and points that are noise."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Literal

import numpy as np

from moss_step.model.cloud import GROUND, HIGH_NOISE, LOW_NOISE, Cloud
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.frame import Frame
from moss_step.model.memory import check_memory
from moss_step.model.progress import Progress, silent
from moss_step.science.points.cells import cells_of, extremes, taken
from moss_step.science.points.cloth import cloth_things
from moss_step.science.points.gaps import filled
from moss_step.science.points.kernels.opening import read_bilinear, slide_rows, take_higher

_BYTES_A_CELL, _MOST_RADIUS, _PASSES = 120, 200, 4

Method = Literal["morphological", "cloth"]


@dataclass(frozen=True)
class GroundSet:
    """Settings of the search for ground, in metres and as slopes: cell of the surface of lowest points,
    largest thing that stands on the ground (across), steepest ground, and how far a point may lie above
    or below the ground found, on flat ground and for each unit of slope; how stiff a cloth is; and units in
    a metre.
    """

    cell: float
    widest: float
    slope: float
    height: float
    scale: float
    stiffness: int = 2
    metre: float = 1.0


SETS = {
    "flat": GroundSet(1.0, 18.0, 0.12, 0.15, 1.0, 3),
    "upland": GroundSet(1.0, 24.0, 0.25, 0.18, 1.0),
    "forest": GroundSet(1.0, 16.0, 0.30, 0.20, 1.0),
    "built_up": GroundSet(1.0, 50.0, 0.15, 0.18, 1.0, 3),
    "scarp": GroundSet(1.0, 26.0, 0.60, 0.25, 1.2, 1),
}
"""Ready sets by the sort of ground; the values are our own, from trials on simulated surveys."""


def usual_cell(cloud: Cloud) -> float:
    """A cell that holds about four points: what a cloud's spacing suggests.

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
    >>> from moss_step.science.points.ground import usual_cell
    >>> from moss_step.science.sample import scattered
    >>> 1.5 < usual_cell(scattered(40)) < 2.5
    True
    """
    frame = cloud.frame
    return 1.0 if frame is None else float(2.0 * frame.dx / 2.0**0.5)


def ground_points(
    cloud: Cloud, how: GroundSet, progress: Progress | None = None, method: Method = "morphological"
) -> np.ndarray:
    """Which points are ground, by progressive opening of the surface of lowest points, or by a cloth.

    The simple morphological filter (Pingel, Clarke & McBride 2013), after the progressive filter of
    Zhang et al. 2003: the surface of lowest points is opened with ever larger disks; a cell that falls
    by more than the slope allows holds a thing. The ground between is filled smoothly, and points near
    it are ground. At the edges the surface is carried on as it leans, so that a sloping plane keeps all
    its points.

    Parameters
    ----------
    cloud
        Points; heights and places in one unit, or the heights are converted before.
    how
        Settings, in the units of the plan.
    progress
        Told how far it is.
    method
        How cells that hold things are found: ``morphological``, or ``cloth`` (Zhang et al. 2016) laid on the
        surface of lowest points from below.

    Returns
    -------
    np.ndarray
        True for ground, one for each point.

    Raises
    ------
    MossError
        For a cloud without extent, or cells too many for memory.

    Examples
    --------
    >>> from moss_step.science.points.ground import SETS, ground_points
    >>> from moss_step.science.sample import scattered
    >>> int((~ground_points(scattered(20), SETS["upland"])).sum())
    1
    """
    progress = progress or silent()
    frame = _frame_for(cloud, how.cell)
    numbers = cells_of(cloud, frame)
    points = extremes(numbers, cloud.z, frame, highest=False)
    lowest = taken(cloud.z, points)
    surface = filled(lowest)
    progress.at(0.1, "Opening the lowest points")
    low = _sunk(surface, how)
    surface = filled(np.where(low | np.isnan(lowest), np.nan, lowest))
    inner = progress.part(0.1, 0.8)
    things = (
        cloth_things(surface, how.stiffness, how.cell, how.metre, inner)
        if method == "cloth"
        else _things(surface, how, inner)
    )
    lowest[things | low] = np.nan
    ground = _at_middles(cloud, frame, points, lowest)
    progress.at(0.85, "Holding points against the ground")
    lean = np.hypot(*_leans(ground))
    rows, cols = _places(cloud, frame)
    height, slope = np.empty(len(cloud)), np.empty(len(cloud))
    read_bilinear(ground, rows, cols, height)
    read_bilinear(lean, rows, cols, slope)
    return np.asarray(np.abs(cloud.z - height) <= how.height + how.scale * 0.5 * slope)


def _frame_for(cloud: Cloud, cell: float) -> Frame:
    if cloud.bounds is None or cloud.frame is None:
        raise MossError(
            "The points stand in one place: there is no ground between them.", "Take another cloud."
        )
    (xmin, ymin, xmax, ymax), _ = cloud.bounds
    rows, cols = int((ymax - ymin) / cell) + 1, int((xmax - xmin) / cell) + 1
    check_memory(rows * cols * _BYTES_A_CELL, f"Ground in cells of {cell:g}", "Take larger cells, or a part.")
    # It reaches as far beyond the points on each side: a mirrored cloud has the mirrored cells.
    west, north = (xmin + xmax - cols * cell) / 2.0, (ymin + ymax + rows * cell) / 2.0
    return Frame(rows, cols, west, north, cell, cell, cloud.crs)


def _places(cloud: Cloud, frame: Frame) -> tuple[np.ndarray, np.ndarray]:
    """Rows and columns of the points, counted from the middle of the first cell."""
    return (frame.y0 - cloud.y) / frame.dy - 0.5, (cloud.x - frame.x0) / frame.dx - 0.5


def _opened(surface: np.ndarray, radius: int) -> np.ndarray:
    """The surface without what is narrower than a disk; carried on beyond its edges as it leans there."""
    wide = surface
    if min(surface.shape) > radius:
        wide = np.pad(surface, radius, mode="reflect", reflect_type="odd")
    high = _highest_near(-_highest_near(-wide, radius), radius)
    return high[radius:-radius, radius:-radius] if wide is not surface else high


def _highest_near(values: np.ndarray, radius: int) -> np.ndarray:
    """Highest value within a disk around each cell; what lies outside the grid counts for nothing.

    A disk is a row for each step up and down: each is slid along once, whatever its width.
    """
    steps = np.arange(-radius, radius + 1)
    half = np.sqrt(radius**2 - steps.astype(float) ** 2).astype(np.int64)
    best, slid = np.full(values.shape, -np.inf), np.empty(values.shape)
    for wide in np.unique(half):
        slide_rows(values, int(wide), slid)
        for step in steps[half == wide]:
            take_higher(best, slid, int(step))
    return best


def _at_middles(cloud: Cloud, frame: Frame, points: np.ndarray, lowest: np.ndarray) -> np.ndarray:
    """The ground at the middles of the cells: the lowest point of a cell lies down the slope from there,
    and is carried up by the lean that the ground has so far.
    """
    rows, cols = _places(cloud, frame)
    at_row, at_col = np.mgrid[0 : frame.rows, 0 : frame.cols]
    down = np.nan_to_num(taken(rows, points) - at_row)
    right = np.nan_to_num(taken(cols, points) - at_col)
    ground = filled(lowest)
    for _ in range(_PASSES):
        sides = _leans(ground)
        ground = filled(lowest - sides[0] * down - sides[1] * right, ground)
    return ground


def _leans(ground: np.ndarray) -> list[np.ndarray]:
    """Rise from cell to cell down the rows and along the columns; a single row or column has none across."""
    return [
        np.gradient(ground, axis=k) if n > 1 else np.zeros(ground.shape) for k, n in enumerate(ground.shape)
    ]


def _sunk(surface: np.ndarray, how: GroundSet) -> np.ndarray:
    """Cells that lie far below all around them: echoes that came late."""
    turned = -surface
    return np.asarray(turned - _opened(turned, 2) > how.metre + 2.0 * how.slope * how.cell + how.height)


def _things(surface: np.ndarray, how: GroundSet, progress: Progress) -> np.ndarray:
    """Cells that fall by more than the slope allows as the disks grow."""
    largest = min(max(int(np.ceil(how.widest / 2.0 / how.cell)), 1), _MOST_RADIUS)
    things, last = np.zeros(surface.shape, bool), surface
    for radius in range(1, largest + 1):
        progress.at((radius - 1) / largest, "Opening the lowest points")
        now = _opened(last, radius)
        things |= last - now > how.slope * how.cell * radius + 0.1 * how.metre
        last = now
    return things


def noise_points(
    cloud: Cloud, radius: float, neighbours: int, below: float, above: float
) -> tuple[np.ndarray, np.ndarray]:
    """Which points are low noise and which high: alone in the air or under the ground, or far from what
    is around.

    A point is alone when the 27 cubes of side ``radius`` around it hold at most ``neighbours`` others.
    It is low or high by the median of the lowest points around; one that lies more than ``below`` under
    it is low, alone or not, and one more than ``above`` over it is high.

    Parameters
    ----------
    cloud
        Points.
    radius
        Side of the cubes, in units of the plan and of heights.
    neighbours
        Most other points around one that is alone.
    below
        Most that a point may lie under the median of the lowest points around, in units of heights.
    above
        Most that it may lie over it.

    Returns
    -------
    tuple[np.ndarray, np.ndarray]
        True for low noise, and for high noise.

    Examples
    --------
    >>> from dataclasses import replace
    >>> from moss_step.science.points.ground import noise_points
    >>> from moss_step.science.sample import scattered
    >>> cloud = scattered(20)
    >>> bird = replace(cloud, z=cloud.z + 30.0 * (cloud.z > 12.0))
    >>> [int(found.sum()) for found in noise_points(bird, 3.0, 3, 2.0, 60.0)]
    [0, 1]
    """
    from scipy.ndimage import median_filter  # loaded where it is used: it takes a while

    frame = _frame_for(cloud, max(2.0 * usual_cell(cloud), 1e-9))
    numbers = cells_of(cloud, frame)
    lowest = filled(taken(cloud.z, extremes(numbers, cloud.z, frame, highest=False)))
    middle = median_filter(lowest, size=7, mode="nearest")
    rows, cols = _places(cloud, frame)
    around = np.empty(len(cloud))
    read_bilinear(middle, rows, cols, around)
    over = cloud.z - around
    alone = _crowd(cloud, radius) <= neighbours + 1
    low = (over < -below) | (alone & (over < 0.0))
    return low, ~low & ((over > above) | (alone & (over > 0.0)))


def _crowd(cloud: Cloud, side: float) -> np.ndarray:
    """Points in the 27 cubes around each point, itself among them."""
    places = [np.floor((v - v.min()) / side) for v in (cloud.x, cloud.y, cloud.z)]
    if not float(np.prod([float(p.max()) + 3.0 for p in places])) < 2.0**62:
        raise AskedWronglyError("The cubes are too small for so large a cloud.", "Take a larger radius.")
    whole = [p.astype(np.int64) + 1 for p in places]
    wide = [int(w.max()) + 2 for w in whole]
    keys = (whole[0] * wide[1] + whole[1]) * wide[2] + whole[2]
    cubes, inverse, held = np.unique(keys, return_inverse=True, return_counts=True)
    total = np.zeros(len(cubes), np.int64)
    for a in (-1, 0, 1):
        for b in (-1, 0, 1):
            for c in (-1, 0, 1):
                near = cubes + (a * wide[1] + b) * wide[2] + c
                at = np.minimum(np.searchsorted(cubes, near), len(cubes) - 1)
                total += np.where(cubes[at] == near, held[at], 0)
    return np.asarray(total[inverse])


def classified(ground: np.ndarray, noise: tuple[np.ndarray, np.ndarray] | None) -> np.ndarray:
    """Codes of all points: ground, noise where it was looked for, and 1 for what is neither.

    Parameters
    ----------
    ground
        True for ground (n).
    noise
        True for low and for high noise, or None.

    Returns
    -------
    np.ndarray
        Codes (uint8, n).

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.points.ground import classified
    >>> classified(np.array([True]), None).tolist()
    [2]
    """
    codes = np.where(ground, GROUND, 1).astype(np.uint8)
    if noise is not None:
        codes[noise[0]], codes[noise[1]] = LOW_NOISE, HIGH_NOISE
    return codes


def scaled(how: GroundSet, factor: float) -> GroundSet:
    """Settings in units that are some metres long.

    Parameters
    ----------
    how
        Settings in metres.
    factor
        Metres of one unit.

    Returns
    -------
    GroundSet
        The same lengths in the units.

    Examples
    --------
    >>> from moss_step.science.points.ground import SETS, scaled
    >>> scaled(SETS["upland"], 0.5).widest
    48.0
    """
    return replace(
        how,
        cell=how.cell / factor,
        widest=how.widest / factor,
        height=how.height / factor,
        metre=how.metre / factor,
    )
