"""TINs: triangles between points with the edges that must be, cut by outlines; grids from them, and what lies
under a level.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import shapely

from moss_step.model.arrays import blurred
from moss_step.model.errors import MossError
from moss_step.model.frame import Frame
from moss_step.model.mapped import let_go, new_grid
from moss_step.model.surface import Surface
from moss_step.model.tin import Tin
from moss_step.model.units import UNKNOWN, Unit
from moss_step.science.interpolate.kernels.constrain import CROSSES, DONE, constrain, leaving_of
from moss_step.science.interpolate.kernels.natural import twins_of
from moss_step.science.interpolate.kernels.prisms import below_level
from moss_step.science.interpolate.kernels.triangles import fill_triangles
from moss_step.science.interpolate.places import Measured
from moss_step.science.interpolate.plane import Plane
from moss_step.science.interpolate.triangles import between_whole, whole_numbers

_ROOM = 1_000_000
"""Edges that one forced edge may cross."""
_ROWS = 512
"""Rows of cells that get their heights together."""


@dataclass(frozen=True, eq=False)
class BreakLine:
    """A line that triangles keep: its corners (k, 3) in units of the reference system and of the heights;
    a height that is not known (NaN) is found between those that are.
    """

    corners: np.ndarray


def break_lines(geometry: np.ndarray, heights: np.ndarray | None = None) -> list[BreakLine]:
    """Lines, and the rims of areas, as break lines.

    Parameters
    ----------
    geometry
        Lines or areas (n), with heights of their own where ``heights`` is left out.
    heights
        The height of each (n).

    Returns
    -------
    list[BreakLine]
        Their parts.

    Examples
    --------
    >>> import numpy as np, shapely
    >>> from moss_step.science.interpolate.tin import break_lines
    >>> made = break_lines(np.array([shapely.LineString([(0, 0), (4, 0)])], object), np.array([7.0]))
    >>> made[0].corners.tolist()
    [[0.0, 0.0, 7.0], [4.0, 0.0, 7.0]]
    """
    result = []
    for number, shape in enumerate(geometry):
        lines = shapely.get_parts(shape.boundary if shapely.get_dimensions(shape) == 2 else shape)
        for line in lines:
            corners = shapely.get_coordinates(line, include_z=True)
            if heights is not None:
                corners[:, 2] = heights[number]
            result.append(BreakLine(corners))
    return result


def triangulate(
    held: Measured,
    plane: Plane,
    crs: str | None,
    unit: Unit = UNKNOWN,
    lines: list[BreakLine] | None = None,
    outline: shapely.Geometry | None = None,
    longest: float = 0.0,
) -> Tin:
    """Triangles between places (Delaunay 1934), with break lines among their edges (Sloan 1993).

    Parameters
    ----------
    held
        Places with heights, no two in one.
    plane
        Metres of their coordinates.
    crs
        Reference system of the places.
    unit
        Unit of the heights.
    lines
        Break lines. Where they cross, the height there is that of the first; a place on one of their corners
        takes its height from the line.
    outline
        Areas, in the same system, beyond whose rims no triangle is kept; rims that are to be edges are given
        as break lines, too.
    longest
        Metres that no side of a triangle exceeds; 0 for any.

    Returns
    -------
    Tin
        Points and triangles.

    Raises
    ------
    MossError
        For fewer than three places, places on one line, or break lines that cannot all be kept.

    Source
    ------
    Delaunay 1934; Sloan 1993, A fast algorithm for generating constrained Delaunay triangulations, Computers
    & Structures 47.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.interpolate.places import Measured
    >>> from moss_step.science.interpolate.plane import Plane
    >>> from moss_step.science.interpolate.tin import triangulate
    >>> corners = Measured(np.array([0.0, 2.0, 0.0, 2.0]), np.array([0.0, 0.0, 2.0, 2.0]), np.zeros(4))
    >>> len(triangulate(corners, Plane(0.0, 0.0, 1.0, 1.0), None))
    2
    """
    lines = lines or []
    corners = np.concatenate([line.corners for line in lines]) if lines else np.empty((0, 3))
    # Corners of lines come first: of several points in one place the first is kept.
    x, y = np.concatenate([corners[:, 0], held.x]), np.concatenate([corners[:, 1], held.y])
    z = np.concatenate([corners[:, 2], held.values])
    if len(x) < 3:
        raise MossError("Triangles need three places or more.", "Take more points.")
    px, py = whole_numbers(*plane.places(x, y))
    edges = np.empty((0, 2), np.int64)
    if lines:
        px, py, x, y, z, edges = _noded(lines, px, py, x, y, z)
    first = _first_of_each(px, py)
    px, py, x, y, z, edges = _kept(first, px, py, x, y, z, edges)
    triangles = between_whole(px, py)
    if len(edges):
        triangles = _forced(triangles, edges, px, py)
    z = _known_heights(x, y, z, plane, edges)
    u, v = plane.places(x, y)
    return _trimmed(Tin(x, y, z, triangles, edges, crs, unit), u, v, outline, longest)


def _noded(
    lines: list[BreakLine], px: np.ndarray, py: np.ndarray, x: np.ndarray, y: np.ndarray, z: np.ndarray
) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """Points with those where lines cross, and the edges between them, in whole numbers: no two edges cross
    but in a point.
    """
    sizes = [len(line.corners) for line in lines]
    ends = np.cumsum(sizes)
    begins = np.setdiff1d(np.arange(ends[-1] - 1), ends - 1)  # a step to the next corner of the same line
    steps = np.column_stack([px[begins], py[begins], px[begins + 1], py[begins + 1]]).reshape(-1, 2, 2)
    moved = (steps[:, 0] != steps[:, 1]).any(axis=1)
    begins, segments = begins[moved], shapely.linestrings(steps[moved])
    points, owner = shapely.get_coordinates(
        shapely.get_parts(shapely.union_all(segments, grid_size=1.0)), return_index=True
    )
    within = np.flatnonzero(owner[1:] == owner[:-1])
    # Each place once: corners of lines by the first that stands there, then those where lines cross.
    key, numbers = np.unique(
        np.concatenate([_place_key(px, py), _place_key(points[:, 0], points[:, 1])]), return_inverse=True
    )
    first = np.full(len(key), len(px), np.int64)
    np.minimum.at(first, numbers[: len(px)], np.arange(len(px)))
    fresh = np.flatnonzero(first == len(px))
    first[fresh] = len(px) + np.arange(len(fresh))
    number = first[numbers[len(px) :]]
    if len(fresh):
        source = np.full(len(key), -1, np.int64)
        source[numbers[len(px) :]] = np.arange(len(points))
        new = points[source[fresh]]
        at = _along(segments, begins, new, np.column_stack([x, y, z]))
        px, py = np.concatenate([px, new[:, 0]]), np.concatenate([py, new[:, 1]])
        x, y, z = (np.concatenate([old, at[:, k]]) for k, old in enumerate((x, y, z)))
    return px, py, x, y, z, np.column_stack([number[within], number[within + 1]])


def _along(segments: np.ndarray, begins: np.ndarray, points: np.ndarray, corners: np.ndarray) -> np.ndarray:
    """Places and heights (n, 3) where lines cross, on the first of those that pass there."""
    spots = shapely.points(points)
    which, passing = shapely.STRtree(segments).query(spots, predicate="dwithin", distance=1.5)
    first = np.full(len(points), len(segments), np.int64)
    np.minimum.at(first, which, passing)
    length = shapely.length(segments[first])
    share = (shapely.line_locate_point(segments[first], spots) / length)[:, None]
    a, b = corners[begins[first]], corners[begins[first] + 1]
    return np.asarray(a + share * (b - a))


def _place_key(px: np.ndarray, py: np.ndarray) -> np.ndarray:
    """A number for each place of whole numbers: exact, of 25 bits and 25 bits."""
    return np.asarray(px * 2.0**26 + py)


def _first_of_each(px: np.ndarray, py: np.ndarray) -> np.ndarray:
    """For each point the first that stands in its place (n)."""
    _, first, group = np.unique(_place_key(px, py), return_index=True, return_inverse=True)
    return np.asarray(first[group.ravel()])


def _kept(
    first: np.ndarray, px: np.ndarray, py: np.ndarray, x: np.ndarray, y: np.ndarray, z: np.ndarray,
    edges: np.ndarray,
) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray, np.ndarray, np.ndarray]:  # fmt: skip
    """Each place once, with edges between these."""
    own = first == np.arange(len(first))
    number = np.cumsum(own) - 1
    moved = number[first[edges]] if len(edges) else edges
    moved = moved[moved[:, 0] != moved[:, 1]] if len(moved) else moved
    if len(moved):
        moved = np.unique(np.sort(moved, axis=1), axis=0)
    return px[own], py[own], x[own], y[own], z[own], moved


def _forced(triangles: np.ndarray, edges: np.ndarray, px: np.ndarray, py: np.ndarray) -> np.ndarray:
    """Triangles that have some edges.

    Raises MossError where one cannot be had.
    """
    corners = np.ascontiguousarray(triangles).ravel().astype(np.int64)
    twins = np.empty(corners.size, np.int64)
    twins_of(triangles, len(px), twins)
    leaving = np.empty(len(px), np.int64)
    leaving_of(corners, leaving)
    fixed = np.zeros(corners.size, np.bool_)
    room = min(corners.size, _ROOM)
    failed, why = constrain(edges, px, py, corners, twins, leaving, fixed, room)
    if why == CROSSES:
        raise MossError("Break lines cross each other so closely that not all can be kept.", "Simplify them.")
    if why != DONE or failed < len(edges):
        raise MossError("A break line cannot be kept: it has a corner outside all points.", "Simplify it.")
    return corners.reshape(-1, 3)


def _known_heights(
    x: np.ndarray, y: np.ndarray, z: np.ndarray, plane: Plane, edges: np.ndarray
) -> np.ndarray:
    """Heights with those that were not known filled in from the triangles of those that are, or the nearest
    where there is none.
    """
    unknown = ~np.isfinite(z)
    if not unknown.any():
        return z
    from moss_step.science.interpolate.neighbours import NaturalNeighbours, NearSamples

    u, v = plane.places(x, y)
    known = ~unknown
    if known.sum() < 3:
        raise MossError("Break lines without heights need three places with one.", "Give the lines heights.")
    found = NaturalNeighbours(u[known], v[known], z[known]).at(u[unknown], v[unknown], flat=True)
    outside = ~np.isfinite(found)
    if outside.any():
        near = NearSamples(u[known], v[known], z[known], 1).at(u[unknown][outside], v[unknown][outside])
        found[outside] = near
    result = z.copy()
    result[unknown] = found
    return result


def _trimmed(tin: Tin, u: np.ndarray, v: np.ndarray, outline: shapely.Geometry | None, longest: float) -> Tin:
    """Triangles within an outline, with no side longer than a bound."""
    t = tin.triangles
    kept = np.ones(len(t), bool)
    if outline is not None:
        shapely.prepare(outline)
        kept &= shapely.contains_xy(outline, tin.x[t].mean(axis=1), tin.y[t].mean(axis=1))
    if longest > 0:
        for a, b in ((0, 1), (1, 2), (2, 0)):
            kept &= np.hypot(u[t[:, a]] - u[t[:, b]], v[t[:, a]] - v[t[:, b]]) <= longest
    if not kept.any():
        raise MossError(
            "No triangle is left.", "Take a longer bound for sides, or an outline that holds points."
        )
    return Tin(tin.x, tin.y, tin.z, t[kept], tin.lines, tin.crs, tin.unit)


def on_grid(tin: Tin, frame: Frame, rows: slice | None = None) -> Surface:
    """The heights of a TIN at the middles of cells.

    Parameters
    ----------
    tin
        The triangles.
    frame
        Where the cells lie, in the same reference system.
    rows
        Some rows of them, from a multiple of 512 on; all when left out. They get what they get among all.

    Returns
    -------
    Surface
        Heights in the unit of the TIN (rows, cols), NaN outside.

    Examples
    --------
    >>> from moss_step.science.interpolate.tin import on_grid
    >>> from moss_step.science.sample import ground, roof
    >>> on_grid(roof(), ground([[0.0] * 2] * 2).frame).values.tolist()
    [[1.0, 1.0], [1.0, 1.0]]
    """
    own = slice(0, frame.rows) if rows is None else rows
    cols, down = (tin.x - frame.x0) / frame.dx - 0.5, (frame.y0 - tin.y) / frame.dy - 0.5
    kind = np.float64 if blurred(tin.z) else np.float32
    out = new_grid((own.stop - own.start, frame.cols), kind, np.nan)
    for first in range(own.start, own.stop, _ROWS):  # counted from here, so that parts round as the whole
        part = out[first - own.start : min(first + _ROWS, own.stop) - own.start]
        fill_triangles(np.ascontiguousarray(cols), down - first, tin.z, tin.triangles, 1.0, 1.0, np.inf, part)
        let_go(out)
    return Surface(out, frame if rows is None else frame.part(own, slice(0, frame.cols)), tin.unit)


@dataclass(frozen=True)
class Held:
    """What lies on one side of a level: m³, m² on the plan and on the ground, and the greatest depth in the
    unit of the heights.
    """

    volume: float
    plan_area: float
    surface_area: float
    greatest_depth: float

    @property
    def mean_depth(self) -> float:
        """Volume over plan area, in metres; 0 where there is none."""
        return self.volume / self.plan_area if self.plan_area > 0 else 0.0


def storage_of_tin(tin: Tin, level: float, below: bool = True) -> Held:
    """Volume and areas of a TIN under a level, or over it: exact, prism by prism.

    Parameters
    ----------
    tin
        The triangles.
    level
        The level, in the unit of the heights.
    below
        Whether what lies below it counts, as water does; else what stands above.

    Returns
    -------
    Held
        Cubic and square metres.

    Source
    ------
    Mathematics: a triangle is cut by the level into a triangle and a quadrangle, and a prism over a triangle
    holds its area times the mean of three depths.

    Examples
    --------
    >>> from moss_step.science.interpolate.tin import storage_of_tin
    >>> from moss_step.science.sample import roof
    >>> storage_of_tin(roof(), 2.0, below=False).volume  # none of it stands above the ridge
    0.0
    """
    frame = tin.frame
    if frame is None:
        return Held(0.0, 0.0, 0.0, 0.0)
    x, y = Plane.of(frame).places(tin.x, tin.y)
    metre = tin.metres_per_height
    sums = np.zeros(4)
    below_level(x, y, tin.z * metre, tin.triangles, level * metre, below, sums)
    return Held(float(sums[0]), float(sums[1]), float(sums[2]), float(sums[3]) / metre)
