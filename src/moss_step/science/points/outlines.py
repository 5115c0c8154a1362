"""Shapes out of classes of points: outlines of buildings, centre lines of walls, and wires as curves."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
import shapely
import shapely.affinity

from moss_step.model.cloud import Cloud
from moss_step.model.frame import Frame
from moss_step.model.progress import Progress, silent
from moss_step.science.points.cells import cells_of
from moss_step.science.points.measures import FORMS, forms_of
from moss_step.science.points.near import frame_about
from moss_step.science.points.segments import SegmentSet, segments_of
from moss_step.science.zones.tracing import parts_of

Shape = Any
"""A polygon or a line: the library's stubs know no lengths and areas of what its functions give."""
_SHORT_SHARE, _BOXY = 0.2, 0.85
"""Share of the square root of an outline's area below which a side is no side, and what an outline and its
rectangle share, of both together, from which on it is one.
"""
_BETWEEN_WIRES = 0.35
"""Metres between two wires beside each other, at the least."""
_MANY = 20_000
"""Points of a building from which on its outline is found by cells."""
_EDGE = 0.75
"""Spacings from the last points to the edge of a roof, from trials on simulated surveys."""


@dataclass(frozen=True, eq=False)
class Found:
    """Shapes in metres (n), the points of each (numbers of the cloud's), and what was measured (n each)."""

    geometry: np.ndarray
    points: list[np.ndarray]
    columns: dict[str, np.ndarray]


def buildings(
    flat: Cloud,
    above: np.ndarray,
    spacing: float,
    least: float,
    straight: bool,
    progress: Progress | None = None,
) -> Found:
    """Outlines of buildings around their points.

    An outline closes the gaps between the points (disks of one and a half spacings, Serra 1982), three
    quarters of a spacing wider: the edge of a roof lies between its last points and the next. Straightened,
    its sides run along and across its main direction, each at the mean place of what it stands for
    (after Dutter 2007).

    Parameters
    ----------
    flat
        n points of buildings, in metres.
    above
        Heights above the ground in metres (n).
    spacing
        Metres from point to point.
    least
        Square metres of the smallest building.
    straight
        Whether sides are straightened.
    progress
        Told how far it is.

    Returns
    -------
    Found
        Areas, the largest first, with ``height_m`` (highest), ``mean_height_m`` and ``roof_slope`` (degrees,
        median).

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.points.outlines import buildings
    >>> from moss_step.science.sample import scattered
    >>> found = buildings(scattered(20), np.full(400, 5.0), 1.0, 50.0, straight=True)
    >>> round(float(found.geometry[0].area), -2), found.columns["height_m"].tolist()
    (400.0, [5.0])
    """
    progress = progress or silent()
    parts = _parts(flat, 3.0 * spacing, 4, progress.part(0.0, 0.5))
    leans = _leans(flat, 3.0 * spacing)
    made: list[tuple[Shape, np.ndarray]] = []
    for k, rows in enumerate(parts):
        progress.at(0.6 + 0.4 * k / len(parts), "Going around buildings")
        hull = _hull(flat, rows, spacing)
        shape = straightened(hull, spacing) if straight else hull
        if shape.area >= least:
            made.append((shape, rows))
    made.sort(key=lambda one: -one[0].area)
    points = [rows for _, rows in made]
    columns = {
        "height_m": _told(np.max, above, points),
        "mean_height_m": _told(np.mean, above, points),
        "roof_slope": _told(np.median, leans, points),
    }
    return Found(np.array([shape for shape, _ in made], object), points, columns)


def _told(what: Callable[[np.ndarray], Any], values: np.ndarray, points: list[np.ndarray]) -> np.ndarray:
    """A figure of the known values of each part; NaN where none is."""
    known = [values[rows][np.isfinite(values[rows])] for rows in points]
    return np.array([float(what(v)) if v.size else np.nan for v in known])


def _parts(flat: Cloud, within: float, least: int, progress: Progress | None = None) -> list[np.ndarray]:
    """Numbers of the points of each part that hangs together."""
    if not len(flat):
        return []
    numbers = segments_of(flat, SegmentSet("distance", within, least=least), progress=progress)
    order = np.argsort(numbers, kind="stable")
    ends = np.cumsum(np.bincount(numbers))
    return [part for part in np.split(order, ends[:-1])[1:] if part.size]


def _leans(flat: Cloud, radius: float) -> np.ndarray:
    """Degrees by which the plane around each point leans."""
    if not len(flat):
        return np.zeros(0)
    found, near = forms_of(flat, radius)
    upright = near.back(found[:, FORMS.index("verticality")], len(flat))
    return np.degrees(np.arccos(np.clip(1.0 - upright, 0.0, 1.0)))


def _hull(flat: Cloud, rows: np.ndarray, spacing: float) -> Shape:
    """A hull of points with its hollows, and the edge around them; of very many points by cells."""
    if len(rows) > _MANY:
        return _hull_of_cells(flat.part(rows), spacing)
    places = np.asarray(shapely.points(flat.x[rows], flat.y[rows]))
    # Point by point: around all at once, time grows with the square of their number.
    around: Shape = shapely.union_all(shapely.buffer(places, 1.5 * spacing, quad_segs=4))
    closed: Shape = shapely.buffer(around, -1.5 * spacing, quad_segs=4)
    whole: Shape = shapely.union_all([closed, shapely.multipoints(places)])
    widened: Shape = shapely.buffer(whole, _EDGE * spacing, join_style="mitre")
    largest = max(shapely.get_parts(widened), key=lambda p: p.area)
    return shapely.simplify(shapely.Polygon(largest.exterior), 0.25 * spacing)


def _hull_of_cells(part: Cloud, spacing: float) -> Shape:
    """The same of very many points: cells that hold any, gaps between them closed."""
    from scipy.ndimage import distance_transform_edt  # loaded where it is used: it takes a while

    side, edge = 0.5 * spacing, 4
    inner = frame_about(part, side)
    frame = Frame(
        inner.rows + 2 * edge,
        inner.cols + 2 * edge,
        inner.x0 - edge * side,
        inner.y0 + edge * side,
        side,
        side,
    )
    held = np.zeros(frame.shape, bool)
    held.reshape(-1)[cells_of(part, frame)] = True
    wide = distance_transform_edt(~held) <= 3.0
    closed = distance_transform_edt(wide) > 3.0
    found = parts_of((closed | held).astype(np.int32), 0, frame).geometry
    largest: Shape = max(found, key=lambda p: p.area)
    widened: Shape = shapely.buffer(
        shapely.Polygon(largest.exterior), (_EDGE - 0.25) * spacing, join_style="mitre"
    )
    return shapely.simplify(shapely.Polygon(widened.exterior), 0.5 * spacing)


def straightened(area: Shape, spacing: float) -> Shape:
    """An area whose sides run along and across its main direction.

    Parameters
    ----------
    area
        A polygon, in metres.
    spacing
        Metres from point to point: what is shorter than some of them is no side.

    Returns
    -------
    Shape
        A polygon; the given one where none can be made.

    Examples
    --------
    >>> import shapely
    >>> from moss_step.science.points.outlines import straightened
    >>> ragged = shapely.Polygon([(0, 0), (5, 0.1), (10, 0), (10.1, 3), (10, 6), (0, 6)])
    >>> round(straightened(ragged, 0.5).area, 1)
    59.9
    """
    box = _rectangle(area)
    if box.intersection(area).area > _BOXY * box.union(area).area:
        return box
    turn = main_direction(area)
    level = shapely.affinity.rotate(area, -turn, origin=(0.0, 0.0))
    corners = shapely.get_coordinates(shapely.simplify(level, 1.5 * spacing).exterior)[:-1]
    sides = _sides(corners, max(4.0 * spacing, _SHORT_SHARE * level.area**0.5))
    if len(sides) < 4:
        return shapely.minimum_rotated_rectangle(area)
    ring = [
        (a[1], b[1]) if a[0] else (b[1], a[1]) for a, b in zip(sides, [*sides[1:], sides[0]], strict=True)
    ]
    made = shapely.affinity.rotate(shapely.make_valid(shapely.Polygon(ring)), turn, origin=(0.0, 0.0))
    kept = made.geom_type == "Polygon" and 0.7 < made.area / area.area < 1.4
    return made if kept else shapely.minimum_rotated_rectangle(area)


def _rectangle(area: Shape) -> Shape:
    """The rectangle with the centre and the second moments of an area, turned as fits it best."""
    x, y = (shapely.get_coordinates(area.exterior) - shapely.get_coordinates(area.centroid)).T
    cross = x[:-1] * y[1:] - x[1:] * y[:-1]
    total = cross.sum() / 2.0
    xx = (cross * (x[:-1] ** 2 + x[:-1] * x[1:] + x[1:] ** 2)).sum() / 12.0 / total
    yy = (cross * (y[:-1] ** 2 + y[:-1] * y[1:] + y[1:] ** 2)).sum() / 12.0 / total
    mixed = x[:-1] * y[1:] + 2 * x[:-1] * y[:-1] + 2 * x[1:] * y[1:] + x[1:] * y[:-1]
    xy = (cross * mixed).sum() / 24.0 / total
    best: Shape = shapely.minimum_rotated_rectangle(area)
    most, about = -1.0, main_direction(area)
    for turn in np.radians(about + np.arange(-8.0, 8.5, 1.0)):
        c, s = np.cos(turn), np.sin(turn)
        wide = np.sqrt(12.0 * max(c * c * xx + 2 * c * s * xy + s * s * yy, 0.0)) / 2.0
        high = np.sqrt(12.0 * max(s * s * xx - 2 * c * s * xy + c * c * yy, 0.0)) / 2.0
        corners = np.array([(-wide, -high), (wide, -high), (wide, high), (-wide, high)])
        box = shapely.Polygon(corners @ np.array([(c, s), (-s, c)]) + shapely.get_coordinates(area.centroid))
        held = box.intersection(area).area
        if held > most:
            best, most = box, held
    return best


def main_direction(area: Shape) -> float:
    """The direction that the sides of an area follow or stand across, weighted by their lengths.

    Parameters
    ----------
    area
        A polygon.

    Returns
    -------
    float
        Degrees against the clock from the east, from 0 to 90.

    Examples
    --------
    >>> import shapely
    >>> from moss_step.science.points.outlines import main_direction
    >>> main_direction(shapely.box(0, 0, 4, 2))
    0.0
    """
    rectangle: Shape = shapely.minimum_rotated_rectangle(area)
    box = shapely.get_coordinates(rectangle.exterior)
    sides = np.diff(box, axis=0)[:2]
    longer = sides[int(np.argmax(np.hypot(*sides.T)))]
    return float(np.degrees(np.arctan2(longer[1], longer[0])) % 90.0)


def _sides(corners: np.ndarray, least: float) -> list[tuple[bool, float]]:
    """Sides of a ring that run up (with their x) or along (with their y), in turn; those too short are left
    out, and what follows in one direction is one side at its mean place.
    """
    ends = np.roll(corners, -1, axis=0)
    off = ends - corners
    up = np.abs(off[:, 1]) > np.abs(off[:, 0])
    length = np.where(up, np.abs(off[:, 1]), np.abs(off[:, 0]))
    place = np.where(up, corners[:, 0] + ends[:, 0], corners[:, 1] + ends[:, 1]) / 2.0
    runs: list[list[float]] = []
    for way, long, at in zip(up.tolist(), length.tolist(), place.tolist(), strict=True):
        if runs and runs[-1][0] == way:
            runs[-1][2] = (runs[-1][2] * runs[-1][1] + at * long) / max(runs[-1][1] + long, 1e-12)
            runs[-1][1] += long
        else:
            runs.append([way, long, at])
    while len(runs) > 4 and min(r[1] for r in runs) < least:
        del runs[min(range(len(runs)), key=lambda k: runs[k][1])]
        runs = _merged(runs)
    return [(bool(way), at) for way, _, at in _merged(runs)]


def _merged(runs: list[list[float]]) -> list[list[float]]:
    """Runs in turn: neighbours of one way are one, around the ring."""
    result: list[list[float]] = []
    for run in runs:
        if result and result[-1][0] == run[0]:
            total = result[-1][1] + run[1]
            result[-1] = [run[0], total, (result[-1][2] * result[-1][1] + run[2] * run[1]) / total]
        else:
            result.append(list(run))
    if len(result) > 2 and result[0][0] == result[-1][0]:
        last = result.pop()
        total = result[0][1] + last[1]
        result[0] = [last[0], total, (result[0][2] * result[0][1] + last[2] * last[1]) / total]
    return result


def centre_lines(flat: Cloud, above: np.ndarray, gap: float, width: float, least: float) -> Found:
    """Lines along the middle of long things, such as walls.

    The points are joined by the shortest tree (Kruskal 1956); its longest way is a line, what lies beside
    it is its own, and the rest is looked through again. Each place of a line is the mean of the
    points around it.

    Parameters
    ----------
    flat
        n points in metres.
    above
        Heights above the ground in metres (n).
    gap
        Longest step from point to point.
    width
        Metres of the widest thing.
    least
        Metres of the shortest line.

    Returns
    -------
    Found
        Lines, the longest first, with ``length_m``, ``height_m`` (mean) and ``highest_m``.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.model.cloud import Cloud
    >>> from moss_step.science.points.outlines import centre_lines
    >>> x = np.arange(0.0, 40.0, 0.5)
    >>> wall = Cloud(x, 0.3 * (np.arange(80) % 2), np.ones(80))
    >>> round(float(centre_lines(wall, wall.z, 2.0, 1.0, 5.0).geometry[0].length))
    40
    """
    left, made = np.arange(len(flat)), list[tuple[Shape, np.ndarray]]()
    xy = np.column_stack([flat.x, flat.y])
    while left.size >= 3:
        found = [f for rows in _parts(flat.part(left), gap, 3) if (f := _line(xy, left[rows], gap, width))]
        found = [(line, own) for line, own in found if line.length >= least]
        if not found:
            break
        made += found
        left = np.setdiff1d(left, np.concatenate([own for _, own in found]))
    made.sort(key=lambda one: -one[0].length)
    points = [rows for _, rows in made]
    lines = np.array([line for line, _ in made], object)
    columns = {
        "length_m": shapely.length(lines).astype(float) if len(made) else np.zeros(0),
        "height_m": _told(np.mean, above, points),
        "highest_m": _told(np.max, above, points),
    }
    return Found(lines, points, columns)


def _line(xy: np.ndarray, rows: np.ndarray, gap: float, width: float) -> tuple[Shape, np.ndarray] | None:
    """The longest way through points, through their middle, and the points beside it."""
    from scipy.sparse import coo_matrix  # loaded where it is used: it takes a while
    from scipy.sparse.csgraph import dijkstra, minimum_spanning_tree
    from scipy.spatial import cKDTree

    tree = cKDTree(xy[rows])
    pairs = tree.query_pairs(gap, output_type="ndarray")
    if not len(pairs):
        return None
    far = np.hypot(*(xy[rows[pairs[:, 0]]] - xy[rows[pairs[:, 1]]]).T) + 1e-9
    graph = minimum_spanning_tree(coo_matrix((far, pairs.T), shape=(len(rows), len(rows))).tocsr())
    start = int(np.argmax(dijkstra(graph, directed=False, indices=0)))
    away, before = dijkstra(graph, directed=False, indices=start, return_predecessors=True)
    at, way = int(np.argmax(away)), list[int]()
    while at >= 0:
        way.append(at)
        at = int(before[at])
    path = xy[rows[way]]
    if len(path) < 2:
        return None
    line = _through_middle(shapely.LineString(path), xy[rows], tree, width)
    beside = shapely.distance(line, shapely.points(xy[rows])) <= width
    beside[way] = True
    return line, rows[beside]


def _through_middle(line: Shape, xy: np.ndarray, tree: Any, width: float) -> Shape:
    """A line through the means of the points around it, without bends that are none."""
    count = max(int(line.length / (0.5 * width)) + 1, 2)
    at = shapely.get_coordinates(shapely.line_interpolate_point(line, np.linspace(0.0, line.length, count)))
    near = tree.query_ball_point(at, width)
    middle = np.array(
        [xy[some].mean(axis=0) if some else place for some, place in zip(near, at, strict=True)]
    )
    middle[0], middle[-1] = at[0], at[-1]
    return shapely.simplify(shapely.LineString(middle), 0.4 * width)


def wires(flat: Cloud, spacing: float, least: float) -> Found:
    """Wires as curves in space.

    Points within ten spacings belong to one line of wires; those of one distance beside its direction are
    a wire. Along the direction, heights and places beside it follow a parabola over the points around each
    place, as a catenary of small sag does.

    Parameters
    ----------
    flat
        n points of wires in metres.
    spacing
        Metres from point to point along a wire.
    least
        Metres of the shortest.

    Returns
    -------
    Found
        Lines with heights, the longest first, with ``length_m`` (in space) and ``sag_m`` (greatest depth
        under the straight line between the ends).

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.model.cloud import Cloud
    >>> from moss_step.science.points.outlines import wires
    >>> x = np.linspace(0.0, 60.0, 121)
    >>> hanging = Cloud(x, np.zeros(121), 10.0 + (x - 30.0) ** 2 / 450.0)
    >>> round(float(wires(hanging, 0.5, 10.0).columns["sag_m"][0]), 2)
    2.0
    """
    made: list[tuple[Shape, np.ndarray, float]] = []
    for rows in _each_wire(flat, spacing):
        places = np.column_stack([flat.x[rows], flat.y[rows], flat.z[rows]])
        middle, direction, along, aside = _beside(places)
        if np.ptp(along) < least:
            continue
        at = np.linspace(along.min(), along.max(), max(int(np.ptp(along) / (2.0 * spacing)) + 1, 2))
        off, height = (_smooth(along, values, at, 8.0 * spacing) for values in (aside, places[:, 2]))
        xy = middle + at[:, None] * direction + off[:, None] * np.array([-direction[1], direction[0]])
        straight = np.interp(at, [at[0], at[-1]], [height[0], height[-1]])
        made.append(
            (shapely.LineString(np.column_stack([xy, height])), rows, float((straight - height).max()))
        )
    made.sort(key=lambda one: -one[0].length)
    lines = np.array([line for line, _, _ in made], object)
    steps = [np.diff(shapely.get_coordinates(line, include_z=True), axis=0) for line in lines]
    space = np.array([float(np.sqrt((s**2).sum(axis=1)).sum()) for s in steps])
    columns = {"length_m": space, "sag_m": np.array([sag for _, _, sag in made])}
    return Found(lines, [rows for _, rows, _ in made], columns)


def _beside(places: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """Middle and main direction of places on the plan, and how far along and beside it each lies."""
    middle = places[:, :2].mean(axis=0)
    direction = np.linalg.svd(places[:, :2] - middle, full_matrices=False)[2][0]
    off = places[:, :2] - middle
    return middle, direction, off @ direction, off @ np.array([-direction[1], direction[0]])


def _each_wire(flat: Cloud, spacing: float) -> list[np.ndarray]:
    """Numbers of the points of each wire of lines that run straight."""
    result = []
    for rows in _parts(flat, 10.0 * spacing, 5):
        _, _, _, aside = _beside(np.column_stack([flat.x[rows], flat.y[rows]]))
        order = np.argsort(aside, kind="stable")
        apart = np.flatnonzero(np.diff(aside[order]) > _BETWEEN_WIRES) + 1
        result += [rows[part] for part in np.split(order, apart) if len(part) >= 5]
    return result


def _smooth(along: np.ndarray, values: np.ndarray, at: np.ndarray, reach: float) -> np.ndarray:
    """Values at places by a parabola over those within a reach (Cleveland 1979)."""
    result = np.empty(len(at))
    for k, place in enumerate(at):
        near = np.abs(along - place) <= reach
        if near.sum() < 4:
            result[k] = values[np.argmin(np.abs(along - place))]
            continue
        weight = (1.0 - (np.abs(along[near] - place) / (reach * 1.001)) ** 3) ** 1.5
        result[k] = np.polyfit(along[near] - place, values[near], 2, w=weight)[-1]
    return result
