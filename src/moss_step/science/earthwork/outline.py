"""Outlines over a grid: the exact share of each cell inside, and what is cut and filled there."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import shapely

from moss_step.model.arrays import read_only
from moss_step.model.errors import AskedWronglyError
from moss_step.model.frame import Frame, overlap
from moss_step.model.mapped import blocks_of, let_go, new_grid
from moss_step.science.earthwork.kernels.blocks import (
    GROUP,
    KEPT,
    SUMS,
    WIDE,
    add_up,
    sums_inside,
    touched_cells,
)
from moss_step.science.earthwork.kernels.cover import count_rows, list_rows, share_inside

_AREAS = (shapely.GeometryType.POLYGON, shapely.GeometryType.MULTIPOLYGON)


_ROUNDING = 1e-10
"""Share of what is moved that is no more than rounding."""


@dataclass(frozen=True)
class Moved:
    """What is cut and filled inside an outline, in cubic and square metres; depths in metres.

    ``area`` is that of the outline on the plan, as far as the grid reaches; ``unmeasured`` is the part of it
    without a height.
    """

    cut: float
    fill: float
    cut_area: float
    fill_area: float
    area: float
    unmeasured: float
    deepest_cut: float
    deepest_fill: float

    @property
    def net(self) -> float:
        """Cut less fill: what is left over, or missing where it is below 0; 0 where it is rounding alone."""
        left = self.cut - self.fill
        return left if abs(left) > _ROUNDING * (self.cut + self.fill) else 0.0

    @property
    def mean_cut(self) -> float:
        """Mean depth where there is cut; NaN where there is none."""
        return self.cut / self.cut_area if self.cut_area > 0 else float("nan")

    @property
    def mean_fill(self) -> float:
        """Mean depth where there is fill; NaN where there is none."""
        return self.fill / self.fill_area if self.fill_area > 0 else float("nan")


@dataclass(frozen=True, eq=False)
class Plane:
    """A plane of heights: at the grid's upper left corner, and its rise by a column and by a row."""

    height: float
    by_column: float = 0.0
    by_row: float = 0.0


Base = Plane | float | np.ndarray
"""A plane, a level, or heights of the whole grid (rows, cols)."""


def base_at(base: Base, rows: np.ndarray, cols: np.ndarray) -> np.ndarray:
    """Heights of a base at the middles of some cells.

    Parameters
    ----------
    base
        A plane, a level, or heights of the whole grid.
    rows
        Rows of the grid (n).
    cols
        Columns (m).

    Returns
    -------
    np.ndarray
        Heights where the rows and columns cross (n, m; float64).

    Raises
    ------
    IndexError
        For cells beyond a base that is a grid.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.earthwork.outline import Plane, base_at
    >>> base_at(Plane(1.0, 2.0, 4.0), np.array([0]), np.array([0, 1])).tolist()
    [[4.0, 6.0]]
    """
    if isinstance(base, np.ndarray):
        return np.asarray(base[np.ix_(rows, cols)], np.float64)
    height, by_column, by_row = _plane_of(base)
    return np.asarray(height + by_column * (cols + 0.5) + by_row * (rows[:, None] + 0.5))


def _plane_of(base: Plane | float) -> tuple[float, float, float]:
    held = base if isinstance(base, Plane) else Plane(float(base))
    return held.height, held.by_column, held.by_row


def _for_kernels(base: Base, like: np.ndarray, before: int = 0) -> tuple[np.ndarray, np.ndarray]:
    """A base as kernels take it: a grid, of no rows for a plane, and the plane with rows before it (4)."""
    if isinstance(base, np.ndarray):
        return _as_read(base), np.zeros(4)
    return _as_read(np.empty((0, 0), like.dtype)), np.array([*_plane_of(base), before])


def _as_read(values: np.ndarray) -> np.ndarray:
    """Values that are not written: one compiled kernel serves those that could be, too."""
    return read_only(values, values.dtype)


class Outline:
    """Areas over a grid, made ready for many questions.

    Parameters
    ----------
    frame
        Where the cells lie.
    areas
        Polygons in the same reference system, valid and apart from each other; rings inside are left out.

    Raises
    ------
    AskedWronglyError
        For what is no area, or crosses itself.

    Examples
    --------
    >>> import shapely
    >>> from moss_step.model.frame import Frame
    >>> from moss_step.science.earthwork.outline import Outline
    >>> frame = Frame(2, 2, 0.0, 2.0, 1.0, 1.0, "EPSG:32628")
    >>> Outline(frame, shapely.box(0.5, 0.0, 2.0, 1.0)).shares().tolist()
    [[0.0, 0.0], [0.5, 1.0]]
    """

    def __init__(self, frame: Frame, areas: shapely.Geometry) -> None:
        if shapely.get_type_id(areas) not in _AREAS or shapely.is_empty(areas):
            raise AskedWronglyError("An outline is an area.", "Draw one, or take areas.")
        if not shapely.is_valid(areas):
            reason = shapely.is_valid_reason(areas).partition("[")[0].lower()
            raise AskedWronglyError(
                f"The outline is no clean area: {reason}.", "Pull its corners apart, so that no side crosses."
            )
        self.frame, self.areas = frame, areas
        if not overlap(frame.box, tuple(shapely.bounds(areas).tolist())):
            raise AskedWronglyError(
                "An outline lies outside of the ground.", "Draw it on the ground, or take other areas."
            )
        self._rows, self._cols, self.edges = _cells_of(frame, areas)
        self.window = frame.part(self._rows, self._cols)
        self._row_areas = np.ascontiguousarray(self.window.row_areas, np.float64)
        rows = self.window.rows
        count = np.zeros(rows, np.int64)
        count_rows(self.edges, rows, count)
        self._first = np.concatenate([[0], np.cumsum(count)])
        self._listed = np.empty(self._first[-1], np.int64)
        list_rows(self.edges, rows, self._first[:-1].copy(), self._listed)

    @property
    def part(self) -> tuple[slice, slice]:
        """Rows and columns of the grid around the outline."""
        return self._rows, self._cols

    def shares(self) -> np.ndarray:
        """Share of each cell of the whole grid inside (rows, cols; 0 to 1), mapped where it is large."""
        own = self.own_shares()
        if own.shape == self.frame.shape:
            return own
        out = new_grid(self.frame.shape, np.float64)
        inside = out[self.part]
        for rows in blocks_of(own):
            inside[rows] = own[rows]
            let_go(out, own)
        return out

    def own_shares(self, rows: slice | None = None) -> np.ndarray:
        """Share of each cell of the part around the outline inside (rows, cols; 0 to 1), mapped where it is
        large; of some rows of the grid alone where these are given.
        """
        some = self._rows if rows is None else self._own(rows)
        share = new_grid((some.stop - some.start, self.window.cols), np.float64)
        share_inside(self.edges, self._first, self._listed, some.start - self._rows.start, share)
        return share

    def _own(self, rows: slice) -> slice:
        """Those of some rows of the grid that the outline may reach."""
        start = min(max(rows.start, self._rows.start), self._rows.stop)
        return slice(start, max(min(rows.stop, self._rows.stop), start))

    def moved(self, values: np.ndarray, base: Base, metres: float = 1.0) -> Moved:
        """What lies above (cut) and below (fill) a base.

        ``values`` are heights of the whole grid (rows, cols), ``base`` a level, a plane, or heights of the
        whole grid; ``metres`` are in a unit of both.
        """
        return moved_of(self.sums(values, base), metres)

    def sums(self, values: np.ndarray, base: Base, before: int = 0) -> np.ndarray:
        """What ``moved`` adds up, row by row of the outline (rows, sums): ``values``, and a base that is a
        grid, may be some rows of the grid, with so many ``before`` them; those in them are added up alone.
        """
        held, own = _as_read(values), self._own(slice(before, before + len(values)))
        none = np.empty((1, 0, KEPT)), np.empty((0, 0, 2)), np.empty((0, 0, 2))
        sums = np.zeros((own.stop - own.start, SUMS))
        places = own.start - before, own.start - self._rows.start
        sums_inside(held, *_for_kernels(base, held, before), none, places, *self.ready, sums)
        return sums

    def touched(self) -> np.ndarray:
        """Cells of the part around the outline that its rims run through (rows, cols)."""
        out = new_grid(self.window.shape, bool)
        touched_cells(self.edges, self._first, self._listed, out)
        return out

    @property
    def ready(self) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
        """Sides with the columns of the whole grid, their list by row, and areas of cells."""
        whole = self.edges + np.array([self._cols.start, 0.0, self._cols.start, 0.0])
        return whole, self._first, self._listed, self._row_areas


class Heights:
    """Heights over a base, added up in blocks once: each outline then costs what its rim does.

    Parameters
    ----------
    values
        Heights (rows, cols); NaN is no-data.
    base
        A level, a plane, or heights of the whole grid.
    metres
        Metres in a unit of both.

    Examples
    --------
    >>> import numpy as np, shapely
    >>> from moss_step.model.frame import Frame
    >>> from moss_step.science.earthwork.outline import Heights, Outline
    >>> outline = Outline(Frame(2, 2, 0.0, 2.0, 1.0, 1.0, None), shapely.box(0.5, 0.0, 2.0, 2.0))
    >>> Heights(np.array([[1.0, 2.0], [3.0, 4.0]]), 2.0).inside(outline).cut
    2.5
    """

    def __init__(self, values: np.ndarray, base: Base, metres: float = 1.0) -> None:
        self.values, self.metres = _as_read(values), metres
        self._base, self._plane = _for_kernels(base, self.values)
        rows, cols = self.values.shape
        blocks = -(-cols // WIDE)
        sizes = (blocks + 1, KEPT), (blocks, 2), (-(-blocks // GROUP), 2)
        up_to, deep, deepest = (np.empty((count, rows, kept)) for count, kept in sizes)
        add_up(self.values, self._base, self._plane, up_to, deep, deepest)
        self._kept = up_to, deep, deepest

    def inside(self, outline: Outline) -> Moved:
        """What is cut and filled inside an outline of the same grid."""
        sums = np.zeros((outline.window.rows, SUMS))
        places = outline.part[0].start, 0
        sums_inside(self.values, self._base, self._plane, self._kept, places, *outline.ready, sums)
        return moved_of(sums, self.metres)


def moved_of(sums: np.ndarray, metres: float) -> Moved:
    """What rows of sums, as ``Outline.sums`` gives them, come to.

    Parameters
    ----------
    sums
        Rows of an outline, all of them (rows, 8).
    metres
        Metres in a unit of the heights.

    Returns
    -------
    Moved
        Volumes, areas and depths.

    Examples
    --------
    >>> import numpy as np, shapely
    >>> from moss_step.model.frame import Frame
    >>> from moss_step.science.earthwork.outline import Outline, moved_of
    >>> outline = Outline(Frame(2, 2, 0.0, 2.0, 1.0, 1.0, None), shapely.box(0.5, 0.0, 2.0, 2.0))
    >>> heights = np.array([[1.0, 2.0], [3.0, 4.0]])
    >>> rows = [outline.sums(heights[:1], 2.0), outline.sums(heights[1:], 2.0, 1)]
    >>> moved_of(np.concatenate(rows), 1.0).cut
    2.5
    """
    total = sums[:, :6].sum(axis=0)
    deepest = sums[:, 6:].max(axis=0) if len(sums) else np.zeros(2)
    return Moved(*(total[:2] * metres).tolist(), *total[2:].tolist(), *(deepest * metres).tolist())


def rings_of(areas: shapely.Geometry) -> np.ndarray:
    """Rims and inner rings of a polygon, or of all of several.

    Parameters
    ----------
    areas
        A polygon, or several as one.

    Returns
    -------
    np.ndarray
        Lines (n).

    Raises
    ------
    TypeError
        For what is no geometry.

    Examples
    --------
    >>> import shapely
    >>> from moss_step.science.earthwork.outline import rings_of
    >>> len(rings_of(shapely.union_all([shapely.box(0, 0, 1, 1), shapely.box(2, 0, 3, 1)])))
    2
    """
    one = shapely.get_type_id(areas) == shapely.GeometryType.POLYGON
    return np.asarray(shapely.get_rings(areas if one else shapely.get_parts(areas)), object)


def _cells_of(frame: Frame, areas: shapely.Geometry) -> tuple[slice, slice, np.ndarray]:
    """Rows and columns around areas, and their sides in cells of that part: column and row of both ends."""
    (left, bottom), (right, top) = frame.in_cells(np.reshape(shapely.bounds(areas), (2, 2)))
    cols = slice(int(np.clip(np.floor(left), 0, frame.cols)), int(np.clip(np.ceil(right), 0, frame.cols)))
    rows = slice(int(np.clip(np.floor(top), 0, frame.rows)), int(np.clip(np.ceil(bottom), 0, frame.rows)))
    # Rims run one way and holes the other, so that signed areas add up.
    rings = rings_of(shapely.orient_polygons(areas))
    corners, owner = shapely.get_coordinates(rings, return_index=True)
    u, v = (frame.in_cells(corners) - (cols.start, rows.start)).T
    same = owner[1:] == owner[:-1]
    edges = np.column_stack([u[:-1], v[:-1], u[1:], v[1:]])[same]
    return rows, cols, np.ascontiguousarray(edges)
