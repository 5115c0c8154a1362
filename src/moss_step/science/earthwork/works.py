"""Pads, roads and bunds: the ground as it is to be built, with side slopes to where they meet the ground."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np
import shapely

from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.frame import Frame, overlap
from moss_step.model.progress import Progress, silent
from moss_step.model.surface import Surface
from moss_step.science.earthwork.kernels.works import (
    BED,
    LOST,
    SUMS,
    add_up_works,
    heights_at,
    mean_changes,
    shape_along,
    split_cells,
)
from moss_step.science.earthwork.outline import Moved, Outline, rings_of
from moss_step.science.relief.profile import values_at

_FIRST_REACH, _WIDER = 8.0, 2.0
"""Cells that are looked at beside the bed at first, and how much farther the next time."""
_ROOM = 1.4
"""Times the way that a slope would take to level ground that is looked at first."""
_PIECES, _MOST_PIECES = 150_000, 8
"""Pieces that the cells around a design are looked at in, about; and those of a cell's side at the most."""
_HALF, _MOST_ALONG = 0.5 - 1e-9, 2000
_SETTLED, _LEAST_WIDE = 1e-6, 0.5
"""Metres to which a level that balances is found, and those above and below the ground at first."""


@dataclass(frozen=True)
class Template:
    """What is built beside a line: half of the width in metres; the rise of the bed outward, left and right,
    as a share; and metres outward for each metre of height of the side slopes, left and right.

    With ``only_fill`` nothing is cut; with ``square`` nothing is built beyond the ends of a line.
    """

    half: float = 0.0
    falls: tuple[float, float] = (0.0, 0.0)
    cut: tuple[float, float] = (1.5, 1.5)
    fill: tuple[float, float] = (2.0, 2.0)
    only_fill: bool = False
    square: bool = False

    @property
    def numbers(self) -> np.ndarray:
        """As kernels take it (7)."""
        return np.array([self.half, *self.falls, *self.cut, *self.fill], np.float64)


@dataclass(frozen=True, eq=False)
class Path:
    """A line that is built along: coordinates (n, 2) in the reference system, heights in metres (n), and
    whether it is closed.
    """

    xy: np.ndarray
    z: np.ndarray
    closed: bool = False

    def raised(self, by: float) -> Path:
        """The same line, some metres higher."""
        return replace(self, z=self.z + by)


@dataclass(frozen=True)
class Ground:
    """A part of a grid in metres around its middle column: widths of the cells of each row, the height of a
    row, and the north of the upper edge.
    """

    wides: np.ndarray
    top: float
    high: float
    middle: float
    frame: Frame

    @classmethod
    def of(cls, frame: Frame) -> Ground:
        """The plane of a frame."""
        high = float(frame.row_heights.mean())
        wides = np.ascontiguousarray(frame.row_widths, np.float64)
        return cls(wides, high * frame.rows / 2.0, high, frame.cols / 2.0, frame)

    def places(self, xy: np.ndarray) -> np.ndarray:
        """Metres east and north (n, 2) of coordinates (n, 2)."""
        col = (xy[:, 0] - self.frame.x0) / self.frame.dx
        row = (self.frame.y0 - xy[:, 1]) / self.frame.dy
        wide = np.interp(row - 0.5, np.arange(len(self.wides)), self.wides)
        return np.column_stack([(col - self.middle) * wide, self.top - row * self.high])

    def heights(self, surface: Surface, places: np.ndarray) -> np.ndarray:
        """Heights in metres (n) of a surface of this frame at metres east and north (n, 2)."""
        out, places = np.empty(len(places)), np.ascontiguousarray(places)
        plane = self.top, self.high, self.middle
        heights_at(surface.values, self.wides, plane, places, surface.metres_per_height, out)
        return out

    def coordinates(self, places: np.ndarray) -> np.ndarray:
        """Coordinates (n, 2) of metres east and north (n, 2)."""
        row = (self.top - places[:, 1]) / self.high
        wide = np.interp(row - 0.5, np.arange(len(self.wides)), self.wides)
        col = places[:, 0] / wide + self.middle
        return np.column_stack([self.frame.x0 + col * self.frame.dx, self.frame.y0 - row * self.frame.dy])


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


@dataclass(frozen=True, eq=False)
class Design:
    """What is to be built: lines with a template, and for a pad its outline with heights in metres at places
    (x and y, n each). ``level`` is how high it lies, in metres: of the middle of a pad, of the first place of
    a line.
    """

    paths: tuple[Path, ...]
    template: Template
    level: float
    bed: shapely.Geometry | None = None
    bed_at: Callable[[np.ndarray, np.ndarray], np.ndarray] | None = None

    @classmethod
    def along(cls, paths: Sequence[Path], template: Template) -> Design:
        """What is built along lines."""
        return cls(tuple(paths), template, float(paths[0].z[0]))

    def raised(self, by: float) -> Design:
        """The same design, some metres higher."""
        at = self.bed_at
        return replace(
            self,
            paths=tuple(p.raised(by) for p in self.paths),
            level=self.level + by,
            bed_at=None if at is None else lambda x, y: at(x, y) + by,
        )


def pad(
    frame: Frame, area: shapely.Geometry, level: float, template: Template, fall: float = 0.0,
    toward: float = 0.0,
) -> Design:  # fmt: skip
    """A pad with side slopes beyond its rim.

    Parameters
    ----------
    frame
        Where the ground lies.
    area
        A polygon, or several as one; holes are left out, with slopes of their own.
    level
        Metres in the middle of the area's box.
    template
        Its side slopes; the width is not used.
    fall
        Fall of the bed as a share, for drainage.
    toward
        Bearing in degrees that it falls to.

    Returns
    -------
    Design
        The rims, and heights of the bed.

    Raises
    ------
    AskedWronglyError
        For what is no area, crosses itself, or lies outside.

    Examples
    --------
    >>> import shapely
    >>> from moss_step.model.frame import Frame
    >>> from moss_step.science.earthwork.works import Template, pad
    >>> frame = Frame(10, 10, 0.0, 10.0, 1.0, 1.0, None)
    >>> made = pad(frame, shapely.box(2, 2, 8, 8), 5.0, Template(), fall=0.1, toward=90.0)
    >>> sorted(set(made.paths[0].z.round(3).tolist()))
    [4.7, 5.3]
    """
    area = shapely.orient_polygons(area)
    Outline(frame, area)  # refuses what is no clean area on this ground
    xmin, ymin, xmax, ymax = shapely.bounds(area)
    ground = Ground.of(_around(frame, (xmin, ymin, xmax, ymax), 0.0))
    middle = ground.places(np.array([[(xmin + xmax) / 2.0, (ymin + ymax) / 2.0]]))
    east, north = math.sin(math.radians(toward)), math.cos(math.radians(toward))

    def at(x: np.ndarray, y: np.ndarray) -> np.ndarray:
        off = ground.places(np.column_stack([x, y])) - middle
        return np.asarray(level - fall * (off[:, 0] * east + off[:, 1] * north))

    corners = [shapely.get_coordinates(ring) for ring in rings_of(area)]
    paths = tuple(Path(xy, at(xy[:, 0], xy[:, 1]), closed=True) for xy in corners)
    return Design(paths, replace(template, half=0.0, falls=(0.0, 0.0)), level, area, at)


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
    >>> from moss_step.science.earthwork.works import Template, built, pad
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
    template, ways = design.template, _ways_up(surface, design)
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
    part = _around(frame, box, reach)
    rows, cols = _place_of(frame, part)
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
        ground, plane.wides, (plane.top, plane.high, plane.middle), _lines(plane, design.paths),
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


def _lines(ground: Ground, paths: Sequence[Path]) -> np.ndarray:
    """Pieces of lines as kernels take them (m, 7)."""
    made = []
    for path in paths:
        places = ground.places(path.xy)
        ends = np.zeros(len(places) - 1)
        if not path.closed:
            ends[0] += 1
            ends[-1] += 2
        made.append(np.column_stack([places[:-1], places[1:], path.z[:-1], path.z[1:], ends]))
    return np.ascontiguousarray(np.concatenate(made))


def _around(frame: Frame, box: tuple[float, ...], reach: float) -> Frame:
    """The part of a grid within some metres of a box, a cell at the least."""
    wide, high = frame.cell_metres
    wide = min(wide, float(frame.row_widths.min()))
    left = math.floor((box[0] - frame.x0) / frame.dx - reach / wide) - 1
    right = math.ceil((box[2] - frame.x0) / frame.dx + reach / wide) + 1
    top = math.floor((frame.y0 - box[3]) / frame.dy - reach / high) - 1
    bottom = math.ceil((frame.y0 - box[1]) / frame.dy + reach / high) + 1
    c0, c1 = min(max(left, 0), frame.cols - 1), max(min(right, frame.cols), 1)
    r0, r1 = min(max(top, 0), frame.rows - 1), max(min(bottom, frame.rows), 1)
    return frame.part(slice(r0, max(r1, r0 + 1)), slice(c0, max(c1, c0 + 1)))


def _place_of(frame: Frame, part: Frame) -> tuple[slice, slice]:
    top, left = round((frame.y0 - part.y0) / frame.dy), round((part.x0 - frame.x0) / frame.dx)
    return slice(top, top + part.rows), slice(left, left + part.cols)


def _runs_out(made: Built, frame: Frame) -> bool:
    """Whether what is built reaches the rim of the grid, or ground that is not known."""
    touched = made.kinds > 0
    rims = (
        (made.rows.start == 0, touched[0]), (made.rows.stop == frame.rows, touched[-1]),
        (made.cols.start == 0, touched[:, 0]), (made.cols.stop == frame.cols, touched[:, -1]),
    )  # fmt: skip
    return any(at and bool(cells.any()) for at, cells in rims) or bool((made.kinds == LOST).any())


def balanced(
    surface: Surface, design: Design, factor: float = 1.0, progress: Progress | None = None
) -> tuple[Design, Built]:
    """Raise or lower a design until what is cut, times a factor, is what is filled.

    Parameters
    ----------
    surface
        Heights (rows, cols).
    design
        What is to be built, at any height.
    factor
        Volume of fill from a cubic metre of cut.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    tuple of Design and Built
        The design at the height that balances, to a thousandth of a millimetre; and what is built.

    Raises
    ------
    AskedWronglyError
        For what is only filled, such as a bund.
    MossError
        When there is no such height, or none is known where the design lies.

    Examples
    --------
    >>> import shapely
    >>> from moss_step.science.earthwork.works import Template, balanced, pad
    >>> from moss_step.science.sample import tilted
    >>> ground = tilted()
    >>> area = shapely.box(3.0, 3.0, 7.0, 6.0)
    >>> steep = Template(cut=(0.1, 0.1), fill=(0.1, 0.1))
    >>> design, made = balanced(ground, pad(ground.frame, area, 0.0, steep))
    >>> abs(made.moved.net) < 1e-3 * (made.moved.cut + made.moved.fill)
    True
    """
    if design.template.only_fill:
        raise AskedWronglyError("Nothing is cut for this: it cannot balance.", "Choose a level.")
    from scipy.optimize import brentq

    tried: dict[float, tuple[float, Built]] = {}

    def excess(by: float) -> float:
        (progress or silent()).at(1.0 - 0.8 ** len(tried), "Looking for the level that balances")
        made = built(surface, design.raised(by))
        tried[by] = factor * made.moved.cut - made.moved.fill, made
        return tried[by][0]

    low, high = _bracket(surface, design, excess)
    brentq(excess, low, high, xtol=_SETTLED, rtol=1e-12)
    best = min(tried, key=lambda by: abs(tried[by][0]))
    return design.raised(best), tried[best][1]


def _bracket(surface: Surface, design: Design, excess: Callable[[float], float]) -> tuple[float, float]:
    """Two ways up between which a design balances, looked for from the ground along its lines."""
    metres = surface.metres_per_height
    ways = _ways_up(surface, design)
    if not ways.size:
        raise MossError("No height is known where the design lies.", "Draw it where there are heights.")
    middle, wide = float(ways.mean()), max(float(np.ptp(ways)) / 4.0, _LEAST_WIDE)
    relief = (surface.summary.high - surface.summary.low) * metres
    while wide <= 2.0 * relief + 2.0 * _LEAST_WIDE:
        if excess(middle - wide) > 0.0 > excess(middle + wide):
            return middle - wide, middle + wide
        wide *= 2.0
    raise MossError(
        "No level balances: one of cut and fill stays larger.",
        "Draw it on ground that rises and falls, or choose a level.",
    )


def _ways_up(surface: Surface, design: Design) -> np.ndarray:
    """Metres from a design up to the ground, along its lines; where that is known nowhere, from its first
    place to all ground around it.
    """
    metres, ways = surface.metres_per_height, []
    step = min(surface.frame.dx, surface.frame.dy)
    for path in design.paths:
        apart = np.hypot(*np.diff(path.xy, axis=0).T)
        along = np.concatenate([[0.0], np.cumsum(apart)])
        at = np.linspace(0.0, along[-1], int(min(along[-1] / step, _MOST_ALONG)) + 2)
        x, y, z = (np.interp(at, along, v) for v in (*path.xy.T, path.z))
        ways.append(values_at(surface, x, y).astype(np.float64) * metres - z)
    known = np.concatenate(ways)
    known = known[np.isfinite(known)]
    if known.size:
        return np.asarray(known)
    xy = np.concatenate([p.xy for p in design.paths])
    part = _place_of(surface.frame, _around(surface.frame, (*xy.min(axis=0), *xy.max(axis=0)), 0.0))
    around = surface.values[part].astype(np.float64) * metres - design.level
    return np.asarray(around[np.isfinite(around)])
