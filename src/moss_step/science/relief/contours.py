"""Contours as lines with their elevation: traced by contourpy, joined in shapely; index lines and depressions
marked.
"""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache
from typing import Any

import numpy as np
import shapely

from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.memory import free_memory
from moss_step.model.progress import Progress, silent
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface

MANY_POINTS = 5_000_000
_BYTES_A_POINT = 64
_SAMPLED_LINES = 512
_CALMS = 12
"""Times that the corners of lines are drawn to their neighbours."""
_BAND_CELLS = 4_000_000
"""Cells that are traced at a time."""
_NEAR = 1e-6
"""Parts of a cell within which two points are the same."""


def levels_of(dem: Surface, interval: float, base: float) -> np.ndarray:
    """Heights of the contours: ``base`` plus multiples of ``interval`` within the ground's range.

    Parameters
    ----------
    dem
        The ground: heights in its unit, of shape (rows, cols); NaN is no-data.
    interval
        Height from one line or band to the next, in the unit of the ground.
    base
        Height that lines or bands are counted from, in the unit of the ground.

    Returns
    -------
    np.ndarray
        Heights in the unit of the ground, ascending.

    Raises
    ------
    MossError
        For a ground without values.
    AskedWronglyError
        For more heights than memory holds.

    Examples
    --------
    >>> from moss_step.science.relief.contours import levels_of
    >>> from moss_step.science.sample import tilted
    >>> levels_of(tilted(), 3.0, 0.0).tolist()
    [0.0, 3.0, 6.0]
    """
    if dem.range is None:
        raise MossError("The ground has no values.", "Choose another.")
    low, high = dem.range
    first, last = np.ceil((low - base) / interval), np.floor((high - base) / interval)
    if (last - first) * _BYTES_A_POINT > free_memory():
        raise AskedWronglyError(
            f"An interval of {interval:g} gives {last - first:,.0f} heights of contours.", "Use a larger one."
        )
    return base + interval * np.arange(first, last + 1)


def points_expected(dem: Surface, interval: float) -> float:
    """Points that contours will have, about: how often they cross from one cell to the next, from some of the
    rows and columns.

    Parameters
    ----------
    dem
        The ground: heights in its unit, of shape (rows, cols); NaN is no-data.
    interval
        Height from one line or band to the next, in the unit of the ground.

    Returns
    -------
    float
        About how many.

    Examples
    --------
    >>> from moss_step.science.relief.contours import points_expected
    >>> from moss_step.science.sample import tilted
    >>> points_expected(tilted(), 2.0)  # of all lines
    16.0
    """
    total = 0.0
    for z in (dem.values, dem.values.T):
        step = max(1, len(z) // _SAMPLED_LINES)
        some = z[::step].astype(np.float64)
        total += np.nansum(np.abs(np.diff(some, axis=1))) * len(z) / len(some)
    return float(total / interval)


def memory_of(dem: Surface, interval: float) -> float:
    """Bytes that tracing takes, about: of a band with what the tracer keeps beside it, of cells that are
    looked at, and of the points.

    Parameters
    ----------
    dem
        The ground: heights in its unit, of shape (rows, cols); NaN is no-data.
    interval
        Height from one line or band to the next, in the unit of the ground.

    Returns
    -------
    float
        Bytes.

    Examples
    --------
    >>> from moss_step.science.relief.contours import memory_of
    >>> from moss_step.science.sample import tilted
    >>> memory_of(tilted(), 2.0)  # bytes
    1964.0
    """
    if dem.range is None:
        return 0.0
    cells = dem.values.size
    return 45.0 * min(cells, _BAND_CELLS) + 2.0 * cells + _BYTES_A_POINT * points_expected(dem, interval)


def check_amount(dem: Surface, interval: float, however_many: bool) -> None:
    """Warn before a run that would take minutes, unless that is wanted; refuse one that does not fit into
    memory.

    Parameters
    ----------
    dem
        The ground: heights in its unit, of shape (rows, cols); NaN is no-data.
    interval
        Height from one line or band to the next, in the unit of the ground.
    however_many
        Whether very many lines are wanted all the same.

    Returns
    -------
    None
        Nothing.

    Raises
    ------
    AskedWronglyError
        When it cannot be used.

    Examples
    --------
    >>> from moss_step.science.relief.contours import check_amount
    >>> from moss_step.science.sample import tilted
    >>> check_amount(tilted(), 2.0, however_many=False)  # few enough: nothing is raised
    """
    points = points_expected(dem, interval)
    said = f"An interval of {interval:g} gives about {points / 1e6:,.0f} million points of contours"
    few = f"Use an interval of {interval * points / MANY_POINTS:.2g} or more"
    if points * _BYTES_A_POINT > free_memory():
        raise AskedWronglyError(
            f"{said}, more than the memory of this machine holds.", f"{few}, or crop the ground."
        )
    if points > MANY_POINTS and not however_many:
        raise AskedWronglyError(
            f"{said}, which takes long.",
            f"{few}, or ask for them `however_many`; it can be stopped.",
            f"{few}, or ask for them with however_many=true; it can be stopped.",
        )


def contours(dem: Surface, interval: float, base: float = 0.0, index_every: int = 5, smooth: bool = False,
             progress: Progress | None = None, however_many: bool = False, *,
             heights: Sequence[float] = (), within: float = 0.0) -> Shapes:  # fmt: skip
    """Contour lines between cell centres, with columns elevation, index, closed, depression and length_m.

    Every ``index_every``-th line from the base is an index line. A closed line around lower ground is a
    depression. ``smooth`` averages the ground over 3 x 3 cells first. Lines end at no-data. Raises
    AskedWronglyError before it begins when there would be very many and that is not said to be wanted.

    Parameters
    ----------
    dem
        The ground: heights in its unit, of shape (rows, cols); NaN is no-data.
    interval
        Height from one line or band to the next, in the unit of the ground.
    base
        Height that lines or bands are counted from, in the unit of the ground.
    index_every
        Which line is an index line.
    smooth
        Whether the ground is averaged over 3 x 3 cells first.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.
    however_many
        Whether very many lines are wanted all the same.
    heights
        Heights of the lines in the unit of the ground, in place of an interval; every ``index_every``-th of
        them is an index line.
    within
        Metres that smoothed lines may leave their places by; 0 for none.

    Returns
    -------
    Shapes
        Lines with their columns; elevation in the unit of the ground, length_m in metres.

    Raises
    ------
    MossError
        For fewer than 2 x 2 cells, or where no contour falls in the ground's range.
    AskedWronglyError
        Before it begins, where there would be very many and that is not said to be wanted.

    Source
    ------
    Marching squares, as contourpy traces them.

    Examples
    --------
    >>> from moss_step.science.relief.contours import contours
    >>> from moss_step.science.sample import tilted
    >>> contours(tilted(), 2.0).columns["elevation"].tolist()
    [0.0, 2.0, 4.0, 6.0]
    """
    progress = progress or silent()
    level_ground, datum = dem.levelled
    z = _smoothed(level_ground.values) if smooth else level_ground.values
    if min(z.shape) < 2:
        raise MossError("Contours need at least 2 x 2 cells.", "Open a larger grid.")
    low, high = dem.range or (0.0, -1.0)
    wanted = np.unique(np.asarray(heights, np.float64))
    if not wanted.size:
        check_amount(dem, interval, however_many)
    levels = wanted[(wanted >= low) & (wanted <= high)] if wanted.size else levels_of(dem, interval, base)
    place = np.searchsorted(wanted, levels) if wanted.size else np.rint((levels - base) / interval)
    traced = _traced(z, levels - datum, progress.part(0.0, 0.7))
    lines, at, numbers = [], [], []
    for k, level in enumerate(levels):
        progress.at(0.7 + 0.2 * k / len(levels), f"Joining {level:g}")
        result = _lines(traced[k], dem)
        traced[k] = []  # what is joined need not be held twice
        result = result[shapely.length(result) > 0]  # a height that a single cell just reaches
        lines.append(result)
        at.append(np.full(len(result), level))
        numbers.append(np.full(len(result), int(place[k])))
    if not any(map(len, lines)):
        said = "these heights" if wanted.size else f"an interval of {interval:g}"
        raise MossError(
            f"No contour falls in the ground's range with {said}.",
            f"It runs from {low:g} to {high:g}." if wanted.size else "Use a smaller interval.",
        )
    geometry, number = np.concatenate(lines), np.concatenate(numbers)
    if within > 0:
        geometry = _calmed(geometry, dem, within)
    progress.at(0.9, "Measuring lines")
    closed = shapely.is_closed(geometry) & (shapely.get_num_points(geometry) > 3)
    columns = {
        "elevation": np.concatenate(at), "index": number % index_every == 0,
        "closed": closed, "depression": _depressions(geometry, closed),
        "length_m": dem.frame.lengths(geometry),
    }  # fmt: skip
    return Shapes(geometry, columns, dem.frame.crs, {"elevation": dem.unit.symbol})


def line_at(dem: Surface, level: float, progress: Progress | None = None) -> np.ndarray:
    """The lines where a ground has one height.

    Parameters
    ----------
    dem
        The ground: heights in its unit, of shape (rows, cols); NaN is no-data.
    level
        The height, in the unit of the ground.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    np.ndarray
        Lines in the reference system of the ground (n), none where no cell is passed.

    Examples
    --------
    >>> from moss_step.science.relief.contours import line_at
    >>> from moss_step.science.sample import tilted
    >>> line_at(tilted(), 3.0)[0].wkt
    'LINESTRING (4 1, 4 3, 4 5, 4 7)'
    """
    if min(dem.frame.shape) < 2:
        return np.empty(0, object)
    level_ground, datum = dem.levelled
    traced = _traced(level_ground.values, np.array([level - datum]), progress or silent())
    lines = _lines(traced[0], dem)
    return np.asarray(lines[shapely.length(lines) > 0])


def _calmed(lines: np.ndarray, dem: Surface, within: float) -> np.ndarray:
    """Lines whose corners are drawn to the middle of their neighbours, none farther than some metres from
    where it was; ends stay.
    """
    wide, high = (m / d for m, d in zip(dem.frame.cell_metres, (dem.frame.dx, dem.frame.dy), strict=True))
    scale = np.array([wide, high])
    corners, owner = shapely.get_coordinates(lines, return_index=True)
    own = corners * scale
    moved = own.copy()
    inner = np.zeros(len(own), bool)
    inner[1:-1] = (owner[1:-1] == owner[:-2]) & (owner[1:-1] == owner[2:])
    at = np.flatnonzero(inner)
    # The first corner of a closed line lies between its second and its last but one.
    first = np.flatnonzero(np.r_[True, owner[1:] != owner[:-1]])
    last = np.r_[first[1:], len(owner)] - 1
    ring = (own[first] == own[last]).all(axis=1) & (last - first > 2)
    for _ in range(_CALMS):
        before = moved.copy()
        moved[at] = 0.5 * before[at] + 0.25 * (before[at - 1] + before[at + 1])
        closed = 0.5 * before[first] + 0.25 * (before[first + 1] + before[last - 1])
        moved[first[ring]] = moved[last[ring]] = closed[ring]
        off = moved - own
        far = np.hypot(*off.T)
        moved = own + off * np.minimum(1.0, within / np.maximum(far, 1e-300))[:, None]
    return np.asarray(shapely.linestrings(moved / scale, indices=owner))


def _traced(z: np.ndarray, levels: np.ndarray, progress: Progress) -> list[list[np.ndarray]]:
    """Lines of each level as points in columns and rows, traced in bands of rows and joined across the rows
    where these meet.

    What the tracer holds beside the grid then takes the memory of one band, and it can be stopped between
    two.
    """
    from contourpy import LineType, contour_generator

    rows = max(_BAND_CELLS // z.shape[1], 2)
    starts = list(range(0, max(z.shape[0] - 1, 1), rows))
    result: list[list[np.ndarray]] = [[] for _ in levels]
    open_: list[list[np.ndarray]] = [[] for _ in levels]
    for n, first in enumerate(starts):
        progress.at(0.9 * n / len(starts), "Tracing")
        last = min(first + rows, z.shape[0] - 1)
        some = z[first : last + 1]
        generator = contour_generator(
            z=np.ma.masked_invalid(some) if np.isnan(some).any() else some,
            line_type=LineType.ChunkCombinedOffset,
        )
        seams = [float(r) for r in (first, last) if 0 < r < z.shape[0] - 1]
        for k, level in enumerate(levels):
            progress.at(0.9 * (n + k / len(levels)) / len(starts), "Tracing")
            traced: Any = generator.lines(float(level))
            (points,), (offsets,) = traced
            if points is None:
                continue
            points[:, 1] += first
            for line in np.split(points, np.asarray(offsets[1:-1], np.int64)):
                if len(line) >= 2:
                    (open_ if seams and _meets_seam(line, seams) else result)[k].append(line)
    for k, pieces in enumerate(open_):
        progress.at(0.9 + 0.1 * k / len(levels), "Joining bands")
        result[k] += _joined(pieces)
    return result


def _meets_seam(line: np.ndarray, seams: list[float]) -> bool:
    """Whether an open line begins or ends on the row where two bands meet."""
    ends = (line[0, 1], line[-1, 1])
    return any(abs(y - seam) < _NEAR for y in ends for seam in seams) and not np.array_equal(
        line[0], line[-1]
    )


def _joined(pieces: list[np.ndarray]) -> list[np.ndarray]:
    """Join lines whose end is the beginning of another, as lines of one level in neighbouring bands are:
    higher ground lies on one side of all.
    """
    place = {_key(line[0]): k for k, line in enumerate(pieces)}
    after = [place.get(_key(line[-1]), -1) for line in pieces]
    begins = set(range(len(pieces))) - set(after)
    done, result = [False] * len(pieces), []
    for first in [*sorted(begins), *range(len(pieces))]:  # what has no beginning runs around
        chain: list[np.ndarray] = []
        at = first
        while at >= 0 and not done[at]:
            done[at] = True
            chain.append(pieces[at] if not chain else pieces[at][1:])
            at = after[at]
        if chain:
            line = np.concatenate(chain)
            if at >= 0 and _key(line[-1]) == _key(line[0]):
                line[-1] = line[0]
            result.append(line)
    return result


def _key(point: np.ndarray) -> tuple[int, int]:
    """A point on the row where bands meet, as a number that is the same from both of them."""
    return round(float(point[0]) / _NEAR), round(float(point[1]) / _NEAR)


def _lines(pieces: list[np.ndarray], dem: Surface) -> np.ndarray:
    """Lines from points in columns and rows."""
    if not pieces:
        return np.empty(0, object)
    f, points = dem.frame, np.concatenate(pieces)
    xy = np.column_stack([f.x0 + (points[:, 0] + 0.5) * f.dx, f.y0 - (points[:, 1] + 0.5) * f.dy])
    return np.asarray(
        shapely.linestrings(xy, indices=np.repeat(np.arange(len(pieces)), [len(p) for p in pieces]))
    )


def _depressions(lines: np.ndarray, closed: np.ndarray) -> np.ndarray:
    """Closed lines that run clockwise on the map: contourpy keeps higher ground on one side, rows run south
    here.
    """
    result = np.zeros(len(lines), bool)
    rings = np.flatnonzero(closed)
    result[rings] = shapely.is_ccw(lines[rings]) == _ccw_is_depression()
    return result


@lru_cache(maxsize=1)
def _ccw_is_depression() -> bool:
    """How contourpy turns around a pit, on our axes, found once from a pit of its own."""
    from contourpy import LineType, contour_generator

    z = np.ones((5, 5))
    z[2, 2] = 0.0
    traced: Any = contour_generator(z=z, line_type=LineType.Separate).lines(0.5)
    return bool(shapely.is_ccw(shapely.linestrings(np.asarray(traced[0]) * [1.0, -1.0])))


def _smoothed(z: np.ndarray) -> np.ndarray:
    from scipy.ndimage import uniform_filter

    valid = ~np.isnan(z)
    total = uniform_filter(np.where(valid, z, 0.0).astype(np.float64), 3, mode="nearest")
    share = uniform_filter(valid.astype(np.float64), 3, mode="nearest")
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.where(valid, total / share, np.nan).astype(np.float32)
