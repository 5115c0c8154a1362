"""Contours as lines with their elevation; index lines and depressions marked."""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache
from typing import Any

import numpy as np
import shapely

from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.frame import Frame
from moss_step.model.memory import free_memory
from moss_step.model.progress import Progress, silent
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.units import Unit
from moss_step.science.relief.contour_tracing import BAND_CELLS, in_place, traced

MANY_POINTS = 5_000_000
_BYTES_A_POINT = 64
_SAMPLED_LINES = 512
_CALMS = 12
"""Times that the corners of lines are drawn to their neighbours."""


def levels_between(span: tuple[float, float] | None, interval: float, base: float) -> np.ndarray:
    """Heights of the contours between a lowest and a highest height: ``base`` plus multiples of ``interval``.

    Parameters
    ----------
    span
        Lowest and highest height; None for a ground without values.
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
    >>> from moss_step.science.relief.contours import levels_between
    >>> levels_between((0.5, 7.0), 3.0, 0.0).tolist()
    [3.0, 6.0]
    """
    if span is None:
        raise MossError("The ground has no values.", "Choose another.")
    low, high = span
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
    return float(climbed(dem.values, (0, 0), dem.frame.shape) / interval)


def climbed(some: np.ndarray, first: tuple[int, int], shape: tuple[int, int]) -> float:
    """How far the rows and columns of a ground go up and down, about: that of some of them, as far as they
    run in a part of it.

    Parameters
    ----------
    some
        Heights of the part, with the row below it and the column beside it where these exist.
    first
        First row and column of the part.
    shape
        Rows and columns of the ground.

    Returns
    -------
    float
        Up and down together, in the unit of the heights; parts that do not overlap but by the row and column
        add up.

    Examples
    --------
    >>> from moss_step.science.relief.contours import climbed
    >>> from moss_step.science.sample import tilted
    >>> climbed(tilted().values, (0, 0), (4, 5))
    32.0
    """
    total = 0.0
    for z, start, lines in ((some, first[0], shape[0]), (some.T, first[1], shape[1])):
        step = max(1, lines // _SAMPLED_LINES)
        own = len(z) - 1 if start + len(z) < lines else len(z)
        taken = z[: max(own, 0)][-start % step :: step].astype(np.float64)
        total += np.nansum(np.abs(np.diff(taken, axis=1))) * lines / -(-lines // step)
    return float(total)


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
    return 45.0 * min(cells, BAND_CELLS) + 2.0 * cells + _BYTES_A_POINT * points_expected(dem, interval)


def check_points(points: float, interval: float, however_many: bool) -> None:
    """Warn of a run that has or would have so many points, unless that is wanted; refuse one that does not
    fit into memory.

    Parameters
    ----------
    points
        How many there are, or are expected.
    interval
        Height from one line or band to the next, in the unit of the ground.
    however_many
        Whether many are wanted.

    Returns
    -------
    None
        Nothing.

    Raises
    ------
    AskedWronglyError
        When there are too many.

    Examples
    --------
    >>> from moss_step.science.relief.contours import check_points
    >>> check_points(1000.0, 2.0, however_many=False)  # few enough: nothing is raised
    """
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
    check_shape(z.shape)
    wanted = np.unique(np.asarray(heights, np.float64))
    if not wanted.size:
        check_points(points_expected(dem, interval), interval, however_many)
    levels, place = asked_levels(dem.range, heights, interval, base)
    made = in_place(
        traced(z, levels - datum, progress.part(0.0, 0.7)), levels, dem.frame, progress.part(0.7, 0.9)
    )
    check_lines(made, dem.range, bool(wanted.size), interval)
    return drawn(made, (levels, place), (dem.frame, dem.unit), index_every, within, progress.part(0.9, 1.0))


def check_shape(shape: tuple[int, ...]) -> None:
    """Refuse a ground that is too small for contours.

    Parameters
    ----------
    shape
        Rows and columns of the ground.

    Returns
    -------
    None
        Nothing.

    Raises
    ------
    MossError
        For fewer than 2 x 2 cells.

    Examples
    --------
    >>> from moss_step.science.relief.contours import check_shape
    >>> check_shape((2, 2))  # enough: nothing is raised
    """
    if min(shape) < 2:
        raise MossError("Contours need at least 2 x 2 cells.", "Open a larger grid.")


def asked_levels(
    summary: tuple[float, float] | None, heights: Sequence[float], interval: float, base: float
) -> tuple[np.ndarray, np.ndarray]:
    """Heights of the contours of a ground whose lowest and highest are known, and the place of each.

    Parameters
    ----------
    summary
        Lowest and highest height; None for a ground without values.
    heights
        Heights that are asked for; empty for an interval.
    interval
        Height from one line or band to the next, in the unit of the ground.
    base
        Height that lines or bands are counted from, in the unit of the ground.

    Returns
    -------
    tuple[np.ndarray, np.ndarray]
        Heights, ascending, and places.

    Raises
    ------
    MossError
        For a ground without values.
    AskedWronglyError
        For more heights than memory holds.

    Examples
    --------
    >>> from moss_step.science.relief.contours import asked_levels
    >>> [a.tolist() for a in asked_levels((0.0, 7.0), (), 3.0, 0.0)]
    [[0.0, 3.0, 6.0], [0.0, 1.0, 2.0]]
    """
    low, high = summary or (0.0, -1.0)
    wanted = np.unique(np.asarray(heights, np.float64))
    levels = (
        wanted[(wanted >= low) & (wanted <= high)] if wanted.size else levels_between(summary, interval, base)
    )
    return levels, np.searchsorted(wanted, levels) if wanted.size else np.rint((levels - base) / interval)


def check_lines(
    made: list[np.ndarray], span: tuple[float, float] | None, listed: bool, interval: float
) -> None:
    """Refuse contours that have no line at all.

    Parameters
    ----------
    made
        Lines of each level.
    span
        Lowest and highest height; None for a ground without values.
    listed
        Whether heights were asked for, and no interval.
    interval
        Height from one line or band to the next, in the unit of the ground.

    Returns
    -------
    None
        Nothing.

    Raises
    ------
    MossError
        When there is none.

    Examples
    --------
    >>> import numpy as np
    >>> import shapely
    >>> from moss_step.science.relief.contours import check_lines
    >>> check_lines([np.array([shapely.LineString([(0, 0), (1, 1)])])], (1.0, 4.0), False, 2.0)
    """
    if any(map(len, made)):
        return
    low, high = span or (0.0, -1.0)
    said = "these heights" if listed else f"an interval of {interval:g}"
    raise MossError(
        f"No contour falls in the ground's range with {said}.",
        f"It runs from {low:g} to {high:g}." if listed else "Use a smaller interval.",
    )


def drawn(
    made: list[np.ndarray],
    at: tuple[np.ndarray, np.ndarray],
    ground: tuple[Frame, Unit],
    index_every: int,
    within: float,
    progress: Progress | None = None,
) -> Shapes:
    """Contours from the lines of each level.

    Parameters
    ----------
    made
        Lines of each level.
    at
        Heights of the levels, and the place of each.
    ground
        Frame of the ground, and the unit of its heights.
    index_every
        Every so many is an index line.
    within
        Metres that lines may leave their place by to be smoother; 0 leaves them.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    Shapes
        Lines with their columns.

    Examples
    --------
    >>> import numpy as np
    >>> import shapely
    >>> from moss_step.science.relief.contours import drawn
    >>> from moss_step.science.sample import tilted
    >>> lines = [np.array([shapely.LineString([(1, 1), (1, 7)])])]
    >>> ground = tilted().frame, tilted().unit
    >>> drawn(lines, (np.array([4.0]), np.array([1])), ground, 5, 0.0).columns["length_m"].tolist()
    [6.0]
    """
    (levels, place), (frame, unit) = at, ground
    sizes = [len(lines) for lines in made]
    geometry, number = np.concatenate(made), np.repeat(place.astype(int), sizes)
    if within > 0:
        geometry = _calmed(geometry, frame, within)
    (progress or silent()).at(0.0, "Measuring lines")
    closed = shapely.is_closed(geometry) & (shapely.get_num_points(geometry) > 3)
    columns = {
        "elevation": np.repeat(levels, sizes), "index": number % index_every == 0,
        "closed": closed, "depression": _depressions(geometry, closed),
        "length_m": frame.lengths(geometry),
    }  # fmt: skip
    return Shapes(geometry, columns, frame.crs, {"elevation": unit.symbol})


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
    lines = traced(level_ground.values, np.array([level - datum]), progress)
    return in_place(lines, np.array([level]), dem.frame)[0]


def _calmed(lines: np.ndarray, frame: Frame, within: float) -> np.ndarray:
    """Lines whose corners are drawn to the middle of their neighbours, none farther than some metres from
    where it was; ends stay.
    """
    wide, high = (m / d for m, d in zip(frame.cell_metres, (frame.dx, frame.dy), strict=True))
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
        moved = own + off * (within / np.maximum(far, max(within, 1e-300)))[:, None]
    return np.asarray(shapely.linestrings(moved / scale, indices=owner))


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
