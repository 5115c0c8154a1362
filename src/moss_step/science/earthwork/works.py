"""Designs built on the ground: side slopes to where they meet it, and what is moved."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
import shapely

from moss_step.model.errors import MossError
from moss_step.model.frame import Frame, overlap
from moss_step.model.surface import Surface
from moss_step.science.earthwork.design import Design, Ground, part_around, place_of, ways_up
from moss_step.science.earthwork.kernels.works import (
    BED,
    LOST,
    SUMS,
    add_up_works,
    mean_changes,
    shape_along,
    split_cells,
)
from moss_step.science.earthwork.outline import Moved, Outline

_FIRST_REACH, _WIDER = 8.0, 2.0
"""Cells that are looked at beside the bed at first, and how much farther the next time."""
_ROOM = 1.4
"""Times the way that a slope would take to level ground that is looked at first."""
_PIECES, _MOST_PIECES = 150_000, 8
"""Pieces that the cells around a design are looked at in, about; and those of a cell's side at the most."""
_HALF = 0.5 - 1e-9
"""Share of a cell that is on the bed of a pad when it is inside its outline."""


@dataclass(frozen=True, eq=False)
class Built:
    """A design over a part of a grid, whose cells are looked at in pieces.

    ``frame`` holds the pieces; ``ground`` and ``heights`` (NaN where the ground stays) are in metres there,
    and ``kinds`` say what each becomes (``kernels.works``). ``change`` is that of the cells at ``rows`` and
    ``cols`` of the grid in metres, a mean over their pieces (NaN where none changes). ``areas`` are square
    metres of the bed, of slopes in cut and of slopes in fill; ``open`` says that a slope runs out of the
    ground before it meets it.
    """

    rows: slice
    cols: slice
    frame: Frame
    ground: np.ndarray
    heights: np.ndarray
    kinds: np.ndarray
    change: np.ndarray
    moved: Moved
    areas: tuple[float, float, float]
    open: bool = False


def built(surface: Surface, design: Design) -> Built:
    """Build a design on the ground.

    Parameters
    ----------
    surface
        Heights (rows, cols); NaN is no-data.
    design
        What is to be built.

    Returns
    -------
    Built
        Heights around the design. A side slope runs at right angles from the edge of the bed: in cut where
        the ground at the edge lies above it, in fill where it lies below. It ends where it first meets the
        ground.

    Raises
    ------
    MossError
        When the design does not lie on the ground, or no height is known there.

    Source
    ------
    Side slopes to the catch points of cross-sections: Ghilani and Wolf, Elementary Surveying, volumes (common
    practice).

    Examples
    --------
    >>> import shapely
    >>> from moss_step.science.earthwork.design import Template, pad
    >>> from moss_step.science.earthwork.works import built
    >>> from moss_step.science.sample import ground
    >>> flat = ground([[0.0] * 9] * 9)
    >>> xmin, ymin, xmax, ymax = flat.frame.box
    >>> area = shapely.box(xmin + 6, ymin + 6, xmax - 6, ymax - 6)
    >>> made = built(flat, pad(flat.frame, area, 1.0, Template(fill=(2.0, 2.0))))
    >>> made.moved.cut, made.moved.fill > 36.0
    (0.0, True)
    """
    frame, template = surface.frame, design.template
    corners = np.concatenate([p.xy for p in design.paths])
    box = (*corners.min(axis=0).tolist(), *corners.max(axis=0).tolist())
    if not overlap(frame.box, box):
        raise MossError("The design lies outside of the ground.", "Draw it on the ground.")
    wide, high = frame.cell_metres
    across = float(np.hypot(wide * frame.cols, high * frame.rows))
    reach = min(template.half + _first_reach(surface, design), across + template.half)
    shaped = _shaped(surface, design, box, reach)
    while shaped.cut_off and reach <= across:
        reach = template.half + (reach - template.half) * _WIDER
        shaped = _shaped(surface, design, box, reach)
    made = _added_up(shaped)
    lost = 0.0 < made.moved.area <= made.moved.unmeasured and not template.only_fill
    if lost or not np.isfinite(made.ground).any():
        raise MossError("No height is known where it would be built.", "Draw it where there are heights.")
    return replace(made, open=_runs_out(made, frame))


def _first_reach(surface: Surface, design: Design) -> float:
    """Metres from the bed within which slopes most likely meet the ground."""
    template, ways = design.template, ways_up(surface, design)
    deep = float(np.abs(ways).max()) if ways.size else 0.0
    slopes = template.fill if template.only_fill else (*template.cut, *template.fill)
    return max(_FIRST_REACH * max(surface.frame.cell_metres), _ROOM * deep * max(slopes))


@dataclass(frozen=True, eq=False)
class _Shaped:
    """A design before it is added up: pieces of cells as in ``Built``, and whether slopes are cut off."""

    rows: slice
    cols: slice
    part: Frame
    frame: Frame
    pieces: int
    ground: np.ndarray
    heights: np.ndarray
    kinds: np.ndarray
    cut_off: bool


def _shaped(surface: Surface, design: Design, box: tuple[float, ...], reach: float) -> _Shaped:
    """A design with slopes up to so many metres from the line."""
    frame, template, metres = surface.frame, design.template, surface.metres_per_height
    part = part_around(frame, box, reach)
    rows, cols = place_of(frame, part)
    pieces = _pieces_of(frame, box, reach)
    fine = replace(
        part, rows=part.rows * pieces, cols=part.cols * pieces, dx=part.dx / pieces, dy=part.dy / pieces
    )
    plane, ground = Ground.of(fine), _in_pieces(surface.values[rows, cols], pieces, metres)
    heights, kinds = np.full(fine.shape, np.nan), np.zeros(fine.shape, np.uint8)
    if design.bed is not None and design.bed_at is not None:
        _lay_bed(design.bed, design.bed_at, fine, ground, heights, kinds)
    open_ = np.zeros(fine.rows, np.int64)
    low, high = surface.range or (0.0, 0.0)
    limits = reach, min(part.cell_metres), low * metres, high * metres
    shape_along(
        ground, plane.wides, (plane.top, plane.high, plane.middle), plane.lines(design.paths),
        template.numbers, (template.only_fill, template.square), limits, heights, kinds, open_,
    )  # fmt: skip
    return _Shaped(rows, cols, part, fine, pieces, ground, heights, kinds, bool(open_.any()))


def _added_up(shaped: _Shaped) -> Built:
    """What is moved, and the change of whole cells."""
    fine, ground, heights, kinds = shaped.frame, shaped.ground, shaped.heights, shaped.kinds
    sums, change = np.zeros((fine.rows, SUMS)), np.empty(shaped.part.shape)
    add_up_works(ground, heights, kinds, np.ascontiguousarray(fine.row_areas, np.float64), sums)
    mean_changes(ground, heights, kinds, shaped.pieces, change)
    total, deepest = sums.sum(axis=0).tolist(), sums[:, 6:8].max(axis=0).tolist()
    areas = total[8], total[9], total[10]
    moved = Moved(*total[:6], *deepest)
    return Built(shaped.rows, shaped.cols, fine, ground, heights, kinds, change, moved, areas)


def _pieces_of(frame: Frame, box: tuple[float, ...], reach: float) -> int:
    """Pieces a side that the cells around a design are looked at in, wherever the grid ends."""
    wide, high = frame.cell_metres
    across = (box[2] - box[0]) / frame.dx + 2.0 * reach / wide + 2.0
    down = (box[3] - box[1]) / frame.dy + 2.0 * reach / high + 2.0
    return int(np.clip(math.sqrt(_PIECES / (across * down)), 1, _MOST_PIECES))


def _in_pieces(values: np.ndarray, pieces: int, metres: float) -> np.ndarray:
    """Heights in metres (float64, so that one kernel does for all), each cell in so many pieces a side."""
    if pieces == 1:
        return np.asarray(np.multiply(values, metres, dtype=np.float64))
    fine = np.empty((values.shape[0] * pieces, values.shape[1] * pieces))
    split_cells(np.ascontiguousarray(values), pieces, metres, fine)
    return fine


def _lay_bed(
    area: shapely.Geometry, at: Callable[[np.ndarray, np.ndarray], np.ndarray], part: Frame,
    values: np.ndarray, heights: np.ndarray, kinds: np.ndarray,
) -> None:  # fmt: skip
    """Cells of which half lies in the area of a pad."""
    own = Outline(part, area)
    bed, known = np.zeros(part.shape, bool), np.isfinite(values)
    bed[own.part] = own.own_shares() >= _HALF
    kinds[bed] = np.where(known[bed], BED, LOST)
    heights[bed & known] = at(*part.middles(bed & known))


def _runs_out(made: Built, frame: Frame) -> bool:
    """Whether what is built reaches the rim of the grid, or ground that is not known."""
    touched = made.kinds > 0
    rims = (
        (made.rows.start == 0, touched[0]), (made.rows.stop == frame.rows, touched[-1]),
        (made.cols.start == 0, touched[:, 0]), (made.cols.stop == frame.cols, touched[:, -1]),
    )  # fmt: skip
    return any(at and bool(cells.any()) for at, cells in rims) or bool((made.kinds == LOST).any())
