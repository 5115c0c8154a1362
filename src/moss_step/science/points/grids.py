"""Grids from the points of a cloud: ground on triangles, extremes, means and counts of cells, density
and spread.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import suppress
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Literal

import numpy as np

from moss_step.model.arrays import as_short
from moss_step.model.cloud import CHUNK, Cloud, joined
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.frame import Box, Frame, same_system
from moss_step.model.mapped import let_go, map_of, new_grid, row_by_row
from moss_step.model.memory import check_memory
from moss_step.model.progress import Progress, silent
from moss_step.model.surface import Surface
from moss_step.model.units import COUNT, NONE
from moss_step.science.framing import frame_around, round_side
from moss_step.science.points import cells
from moss_step.science.points.between import by_distance, canopy, on_triangles
from moss_step.science.points.blocks import MOST, Block, blocks_of
from moss_step.science.points.gaps import filled

What = Literal[
    "ground", "first", "canopy", "highest", "lowest", "mean", "count", "density", "spread", "intensity"
]
Between = Literal["triangles", "inverse_distance"]
Counting = Callable[[Cloud], np.ndarray]
_CORNERS, _AT_ONCE = 3, 2
"""Least points of a surface, and blocks that are worked on at once."""
_GAP_BYTES = 90
"""Bytes a cell that filling gaps takes: values, distances and their places, and what is filled."""
_ASKED = ("classification", "return_number", "number_of_returns")
"""Attributes that may say which points count."""


def proposed_cell(cloud: Cloud, share: float = 1.0) -> float:
    """A cell that the points warrant: a round number that holds one point on average.

    Parameters
    ----------
    cloud
        Points.
    share
        Share of them that counts.

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
    spacing = (1.0 / max(cells.density(cloud) * share, 1e-12)) ** 0.5 / metres
    return round_side(spacing)


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
    return frame_around(cloud.bounds[0], cell, cloud.crs)


def grid_points(
    cloud: Cloud,
    frame: Frame,
    what: What,
    fill: float,
    between: Between = "triangles",
    counting: Counting | None = None,
    progress: Progress | None = None,
) -> Surface:
    """A surface from points.

    A cloud is gone through some points at a time, and triangles are laid block by block with a margin: it may
    be larger than memory.

    Parameters
    ----------
    cloud
        The points.
    frame
        Where the cells lie.
    what
        ``ground``: heights on the triangles between all points (Delaunay 1934); ``first``, ``highest`` and
        ``lowest``: the extreme of each cell; ``mean``, ``spread`` (standard deviation), ``count``,
        ``density`` (points a square metre) and ``intensity`` (mean) of each cell; ``canopy``: the attribute
        ``height_above`` without pits (Khosravipour et al. 2014).
    fill
        Metres up to which cells without a point are filled: longest side of a triangle, or distance from a
        cell with one. 0 leaves them, and of triangles leaves out none.
    between
        How the ground lies between its points: on ``triangles``, or by ``inverse_distance`` from the eight
        nearest within ``fill`` (Shepard 1968).
    counting
        Which points of a part of the cloud count (mask); all when left out.
    progress
        Told how far it is.

    Returns
    -------
    Surface
        Values; NaN where no point tells.

    Raises
    ------
    MossError
        Where there are too few points.
    AskedWronglyError
        Where the cloud has no intensity, or no heights above the ground.

    Examples
    --------
    >>> from moss_step.science.points.grids import frame_for, grid_points
    >>> from moss_step.science.sample import scattered
    >>> grid_points(scattered(4), frame_for(scattered(4), 2.0), "highest", 0.0).values.tolist()
    [[10.0, 14.0], [10.0, 10.0]]
    """
    progress = progress or silent()
    if what in ("ground", "canopy"):
        held = _in_blocks(Laying(cloud, frame, what, fill, between, counting), progress)
        return Surface(as_short(held), frame, cloud.unit, quantity_between(what))
    if what in ("count", "density"):
        total = _counted(cloud, frame, counting, progress)
        number = row_by_row(lambda count: count, np.float32, total)
        if what == "count":
            return Surface(number, frame, COUNT, "count")
        areas = frame.row_areas[:, None]
        return Surface(row_by_row(np.divide, np.float32, number, areas), frame, NONE, "density")
    if what == "intensity" and "intensity" not in cloud.attributes:
        raise AskedWronglyError("The cloud has no intensity.", "Choose another measure.")
    values = _measured(cloud, frame, what, counting, progress)
    unit = NONE if what == "intensity" else cloud.unit
    quantity = what if what in ("spread", "intensity") else "elevation"
    return Surface(as_short(_filled_near(values, frame, fill)), frame, unit, quantity)


def quantity_between(what: What) -> str:
    """What a surface between points measures.

    Parameters
    ----------
    what
        ``ground`` or ``canopy``.

    Returns
    -------
    str
        The quantity.

    Examples
    --------
    >>> from moss_step.science.points.grids import quantity_between
    >>> quantity_between("canopy")
    'difference'
    """
    return "elevation" if what == "ground" else "difference"


def _parts(cloud: Cloud, counting: Counting | None, names: tuple[str, ...] = ()) -> Iterator[Cloud]:
    """The points that count, some at a time, with the attributes of some names alone."""
    for chunk in cloud.chunks():
        kept = None if counting is None else counting(chunk)
        bare = replace(chunk, attributes={n: chunk.attributes[n] for n in names})
        yield bare if kept is None or kept.all() else bare.part(kept)


def _with_cells(
    cloud: Cloud,
    frame: Frame,
    counting: Counting | None,
    progress: Progress,
    doing: str,
    names: tuple[str, ...] = (),
) -> Iterator[tuple[Cloud, np.ndarray]]:
    """The points that count, some at a time, with the cells that they lie in."""
    for k, part in enumerate(_parts(cloud, counting, names)):
        progress.at(min(k * CHUNK / len(cloud), 1.0), doing)
        yield part, cells.cells_of(part, frame)


def _counted(cloud: Cloud, frame: Frame, counting: Counting | None, progress: Progress) -> np.ndarray:
    total = new_grid(frame.shape, np.int64)
    for _, numbers in _with_cells(cloud, frame, counting, progress, "Counting points"):
        cells.count_up(numbers, total)
        let_go(total)
    return total


def _measured(
    cloud: Cloud, frame: Frame, what: What, counting: Counting | None, progress: Progress
) -> np.ndarray:
    """Extremes, means or spreads of cells."""
    if what in ("first", "highest", "lowest"):
        return _extremes(cloud, frame, what != "lowest", counting, progress)
    names = ("intensity",) if what == "intensity" else ()
    first, then = progress.part(0.0, 0.5 if what == "spread" else 1.0), progress.part(0.5, 1.0)
    count, total = new_grid(frame.shape, np.int64), new_grid(frame.shape, np.float64)
    for part, numbers in _with_cells(cloud, frame, counting, first, "Adding points up", names):
        cells.add_up(numbers, part.attributes["intensity"] if names else part.z, count, total)
        let_go(count, total)
    mean = row_by_row(_mean_of, np.float64, total, count)
    if what != "spread":
        return mean
    squares = new_grid(frame.shape, np.float64)
    for part, numbers in _with_cells(cloud, frame, counting, then, "Adding points up"):
        cells.add_squares_up(numbers, part.z, mean, squares)
        let_go(mean, squares)
    return row_by_row(lambda total, count: np.sqrt(_mean_of(total, count)), np.float64, squares, count)


def _mean_of(total: np.ndarray, count: np.ndarray) -> np.ndarray:
    """Sums by counts; NaN where nothing counted."""
    return np.where(count > 0, total / np.maximum(count, 1), np.nan)


def _extremes(
    cloud: Cloud, frame: Frame, highest: bool, counting: Counting | None, progress: Progress
) -> np.ndarray:
    best = new_grid(frame.shape, np.float64, np.nan)
    for part, numbers in _with_cells(cloud, frame, counting, progress, "Looking for extremes"):
        cells.add_extremes(numbers, part.z, highest, best)
        let_go(best)
    return best


@dataclass(frozen=True)
class Laying:
    """A surface that is laid between the points of a cloud that count: of a large cloud block by block, each
    with a margin. Its parts are those of ``grid_points``.
    """

    cloud: Cloud
    frame: Frame
    what: What
    fill: float
    between: Between = "triangles"
    counting: Counting | None = None

    @property
    def names(self) -> tuple[str, ...]:
        """Attributes that are laid on."""
        wanted = self.what == "canopy" and "height_above" in self.cloud.attributes
        return ("height_above",) if wanted else ()

    @property
    def at_once(self) -> bool:
        """Whether all points are looked at together: there are few, or triangles may be of any size."""
        return len(self.cloud) <= MOST or self.fill <= 0.0

    @cached_property
    def near(self) -> Cloud:
        """The cloud with no more attributes than tell what counts, and are laid on."""
        wanted = (*self.names, *_ASKED)
        held = {n: self.cloud.attributes[n] for n in wanted if n in self.cloud.attributes}
        return replace(self.cloud, attributes=held)

    @cached_property
    def margin(self) -> float:
        """Units of the plan around a block that its triangles may reach into."""
        spacing = cells.density(self.cloud) ** -0.5
        return float(max(self.fill, 30.0 * spacing) * 1.5 / min(self.cloud.plan_metres))

    def window(self, box: Box) -> tuple[slice, slice]:
        """Rows and columns whose middles lie in a box, those on its lower and right edge left out."""
        frame = self.frame
        cols = [math.ceil((x - frame.x0) / frame.dx - 0.5) for x in (box[0], box[2])]
        rows = [math.ceil((frame.y0 - y) / frame.dy - 0.5) for y in (box[3], box[1])]
        first, last = (min(max(c, 0), frame.cols) for c in cols)
        top, end = (min(max(r, 0), frame.rows) for r in rows)
        return slice(top, end), slice(first, last)

    def points(self, block: Block) -> Cloud:
        """The points in and around a block that count."""
        points = self.near.part(block.rows)
        return points if self.counting is None else points.part(self.counting(points))

    def lay(self, points: Cloud, part: Frame) -> np.ndarray:
        """The surface between some points, in a part of the cells (rows, cols); NaN where they tell nothing.

        Raises MossError where there are too few of them, or all lie on one line.
        """
        if self.what == "canopy":
            return canopy(points, part, self.fill)
        if self.between == "triangles":
            return on_triangles(points, part, points.z, self.fill)
        return by_distance(points, part, self.fill)

    def lay_block(self, points: Cloud, rows: slice, cols: slice) -> np.ndarray | None:
        """The same in the window of a block; None where there are no cells, or no surface between points."""
        if rows.stop > rows.start and cols.stop > cols.start and len(points) >= _CORNERS:
            with suppress(MossError):  # points on one line have no surface between them
                return self.lay(points, self.frame.part(rows, cols))
        return None


def _in_blocks(laying: Laying, progress: Progress) -> np.ndarray:
    """A surface between points: of a large cloud block by block, of others at once."""
    cloud, frame = laying.cloud, laying.frame
    if laying.at_once:
        parts = list(_parts(cloud, laying.counting, laying.names))
        return laying.lay(parts[0] if len(parts) == 1 else joined(parts), frame)
    out = new_grid(frame.shape, np.float32, np.nan)
    blocks = blocks_of(cloud)

    def fill_block(block: Block) -> None:
        rows, cols = laying.window(block.box)
        laid = laying.lay_block(laying.points(block), rows, cols)
        if laid is not None:
            out[rows, cols] = laid

    with ThreadPoolExecutor(_AT_ONCE) as pool:
        waiting: list[Future[None]] = []
        for k, block in enumerate(blocks.around(laying.margin)):
            progress.at(min(k / len(blocks), 1.0), "Laying triangles")
            waiting.append(pool.submit(fill_block, block))
            if len(waiting) > _AT_ONCE:
                waiting.pop(0).result()
        for one in waiting:
            one.result()
    return out


def _filled_near(values: np.ndarray, frame: Frame, fill: float) -> np.ndarray:
    """Cells within a distance of one with a value, filled smoothly, in memory: all gaps hang together.

    Raises MossError where that has too little room.
    """
    if fill <= 0.0:
        return values
    if map_of(values) is not None:
        check_memory(_GAP_BYTES * values.size, "Filling gaps", "Fill none, or take larger cells.")
        values = np.array(values)
    empty = np.isnan(values)
    if not empty.any() or empty.all():
        return values
    from scipy.ndimage import distance_transform_edt  # loaded where it is used: it takes a while

    near = empty & (distance_transform_edt(empty, sampling=frame.cell_metres[::-1]) <= fill)
    return np.where(near, filled(values), values)


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
    if not same_system(cloud.crs, ground.frame.crs):
        raise MossError(
            "Cloud and ground lie in different reference systems.",
            "Reproject the ground to that of the cloud.",
        )
    from moss_step.science.relief.profile import values_at

    factor = ground.metres_per_height / cloud.unit.metres
    above, first = np.empty(len(cloud), np.float32), 0
    for part in cloud.chunks():
        floor = values_at(ground, np.asarray(part.x), np.asarray(part.y)).astype(np.float64)
        above[first : first + len(part)] = part.z - floor * factor
        first += len(part)
    return above
