"""What observers see: by each, by how many, by which, and how high a target must stand."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import NamedTuple

import numpy as np

from moss_step.model.errors import MossError
from moss_step.model.frame import Frame
from moss_step.model.mapped import blocks_of, compact, grid_beside, let_go, row_by_row
from moss_step.model.progress import Progress, silent
from moss_step.model.surface import Surface
from moss_step.model.typed import as_kind
from moss_step.model.units import ANGLE, METRE, NONE
from moss_step.science.sight.kernels.rays import (
    TILE,
    Reach,
    Stand,
    Surfaces,
    highest_of,
    ray_heights,
    see_exactly,
    see_fast,
)
from moss_step.science.sight.kernels.viewshed import number_cells
from moss_step.science.sight.observer import Observer, Sight, place_of, within_bearings
from moss_step.science.sight.rays import bounds_of, sheaves_of

SHEAVES, BLOCK, FEW = 64, 64, 100_000
"""Sheaves of rays that are sent out, rows that are worked on, and cells that are counted, at once."""

MOST_OBSERVERS = 10_000


def seen_by(sight: Sight, observer: Observer, progress: Progress | None = None) -> np.ndarray:
    """Which cells an observer sees, every target by its own ray: 1 seen, 0 hidden, 2 not asked for or no-data
    (uint8).

    Parameters
    ----------
    sight
        The ground with what stands on it, made by ``prepare_sight``.
    observer
        Place, heights, reach and limits of one observer.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    np.ndarray
        1 seen, 0 hidden, 2 not asked for; uint8 of shape (rows, cols).

    Examples
    --------
    >>> from moss_step.science.sample import ground
    >>> from moss_step.science.sight.observer import Observer, prepare_sight
    >>> from moss_step.science.sight.viewshed import seen_by
    >>> ridge = prepare_sight(ground([[0, 0, 9, 0, 0]] * 3))
    >>> seen_by(ridge, Observer(1.0, 3.0))[1].tolist()
    [1, 1, 1, 0, 0]
    """
    out = np.full(sight.frame.shape, 2, np.uint8)
    rows, cols, view = _seen_within(sight, observer, progress or silent())
    out[rows, cols] = view
    return out


def _within_reach(sight: Sight, cell: tuple[int, int], reach: float) -> tuple[slice, slice, Sight]:
    """Rows and columns that a reach can touch, and the ground there: rays between cells of it never
    leave it.
    """
    rows, cols = window_within(sight.frame, cell, reach)
    if (rows.stop - rows.start, cols.stop - cols.start) == sight.frame.shape:
        return rows, cols, sight
    dem = replace(sight.dem, values=compact(sight.dem.values[rows, cols]), frame=sight.frame.part(rows, cols))
    ground = compact(sight.ground[rows, cols])
    top = ground if sight.top is sight.ground else compact(sight.top[rows, cols])
    for array in (ground, top):
        array.flags.writeable = False
    sizes = np.ascontiguousarray(sight.sizes[rows])
    return (
        rows,
        cols,
        replace(
            sight,
            dem=dem,
            ground=ground,
            top=top,
            tiles=highest_of(top, TILE),
            bounds=bounds_of(top),
            sizes=sizes,
        ),
    )


def _seen_within(sight: Sight, observer: Observer, progress: Progress) -> tuple[slice, slice, np.ndarray]:
    """What ``seen_by`` gives, of the rows and columns within reach."""
    cell, eye = place_of(sight, observer)
    around, aside, sight = _within_reach(sight, cell, observer.reach)
    cell = (cell[0] - around.start, cell[1] - aside.start)
    where = grid_beside(sight.ground, np.int32)
    _preview(sight, observer, cell, eye, where, progress.part(0.0, 0.3))
    out = grid_beside(sight.ground, np.uint8, 2)
    rows = _rows_within(sight, cell, observer.reach)
    surfaces, stand = Surfaces(sight.ground, sight.top, sight.bounds), _stand(sight, cell, eye)
    reach = Reach(observer.near, observer.reach)
    for first, last in progress.part(0.3, 1.0).blocks(rows.stop - rows.start, BLOCK, "Looking around"):
        see_exactly(
            surfaces,
            stand,
            observer.target,
            sight.sizes,
            reach,
            (rows.start + first, rows.start + last),
            where,
            out,
        )
        let_go(where, out)
    _limit(out, 2, sight, cell, eye, observer)
    return around, aside, out


def seen_fast(sight: Sight, observer: Observer) -> np.ndarray:
    """The preview of ``seen_by``: each cell by the nearest of the rays to the rim.

    Parameters
    ----------
    sight
        The ground with what stands on it, made by ``prepare_sight``.
    observer
        Place, heights, reach and limits of one observer.

    Returns
    -------
    np.ndarray
        As ``seen_by``.

    Source
    ------
    Franklin & Ray 1994, Higher isn't necessarily better, Advances in GIS Research.

    Examples
    --------
    >>> from moss_step.science.sample import ground
    >>> from moss_step.science.sight.observer import Observer, prepare_sight
    >>> from moss_step.science.sight.viewshed import seen_fast
    >>> ridge = prepare_sight(ground([[0, 0, 9, 0, 0]] * 3))
    >>> seen_fast(ridge, Observer(1.0, 3.0))[1].tolist()
    [1, 1, 1, 0, 0]
    """
    cell, eye = place_of(sight, observer)
    out = _preview(sight, observer, cell, eye, np.empty((0, 0), np.int32), silent())
    if observer.near <= 0:
        out[cell] = 1
    _limit(out, 2, sight, cell, eye, observer)
    return out


def _preview(
    sight: Sight, observer: Observer, cell: tuple[int, int], eye: float, where: np.ndarray, progress: Progress
) -> np.ndarray:
    """What the nearest rays say of each cell; ``where`` gains the step at which each is most likely blocked,
    unless empty.
    """
    out = grid_beside(sight.ground, np.uint8, 2)
    rows, cols = sight.frame.shape
    most = max(cell[0], rows - 1 - cell[0], cell[1], cols - 1 - cell[1], 1)
    wide, high = (float(v) for v in sight.sizes[cell[0]])
    cells = (
        int(min(most, math.ceil(observer.reach / min(wide, high)))) if math.isfinite(observer.reach) else most
    )
    reach = Reach(observer.near, observer.reach)
    surfaces, stand = Surfaces(sight.ground, sight.top, sight.tiles), _stand(sight, cell, eye)
    cells = max(cells, 1)
    for part in progress.blocks(sheaves_of(cells), max(SHEAVES * 512 // cells, 4), "Looking along rays"):
        see_fast(surfaces, stand, observer.target, cells, reach, part, out, where)
    let_go(out, where)
    return out


def _stand(sight: Sight, cell: tuple[int, int], eye: float) -> Stand:
    """Where an observer stands, as the kernels take it."""
    wide, high = (float(v) for v in sight.sizes[cell[0]])
    return Stand(*cell, eye, sight.bend, wide, high)


def _rows_within(sight: Sight, cell: tuple[int, int], reach: float) -> slice:
    """Rows that a reach can touch."""
    return window_within(sight.frame, cell, reach)[0]


def window_within(frame: Frame, cell: tuple[int, int], reach: float) -> tuple[slice, slice]:
    """Rows and columns that a reach from a cell can touch.

    Parameters
    ----------
    frame
        Rows, columns, cell size and reference system of the grid.
    cell
        Row and column of an observer.
    reach
        Metres; infinite for all of the ground.

    Returns
    -------
    tuple[slice, slice]
        Rows and columns.

    Examples
    --------
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.sight.viewshed import window_within
    >>> window_within(tilted().frame, (0, 0), 3.0)
    (slice(0, 3, None), slice(0, 3, None))
    """
    if not math.isfinite(reach):
        return slice(0, frame.rows), slice(0, frame.cols)
    up = math.ceil(reach / float(frame.row_heights.min()))
    rows = slice(max(cell[0] - up, 0), min(cell[0] + up + 1, frame.rows))
    wide = float(0.5 * (frame.row_widths[rows].min() + frame.row_widths[cell[0]]))
    aside = min(math.ceil(reach / wide), frame.cols)
    return rows, slice(max(cell[1] - aside, 0), min(cell[1] + aside + 1, frame.cols))


def _limit(
    out: np.ndarray, outside: float, sight: Sight, cell: tuple[int, int], eye: float, observer: Observer
) -> None:
    """Give cells beyond the bearings and angles of an observer the value ``outside``, some rows at a time."""
    if not observer.limited:
        return
    for first in range(0, sight.frame.rows, BLOCK):
        last = min(first + BLOCK, sight.frame.rows)
        out[first:last][~_within(sight, (first, last), cell, eye, observer)] = outside


def _within(
    sight: Sight, rows: tuple[int, int], cell: tuple[int, int], eye: float, observer: Observer
) -> np.ndarray:
    """Cells of some rows within the bearings and angles of an observer."""
    r, c = np.mgrid[rows[0] : rows[1], 0 : sight.frame.cols]
    east = (c - cell[1]) * 0.5 * (sight.sizes[r, 0] + sight.sizes[cell[0], 0])
    north = (cell[0] - r) * sight.sizes[r, 1]
    inside = within_bearings(np.degrees(np.arctan2(east, north)), observer)
    d = np.hypot(east, north)
    with np.errstate(invalid="ignore", divide="ignore"):
        angle = np.degrees(
            np.arctan2(sight.ground[rows[0] : rows[1]] + observer.target - sight.bend * d**2 - eye, d)
        )
        inside &= (angle >= observer.down) & (angle <= observer.up)
    inside[(r == cell[0]) & (c == cell[1])] = True
    return np.asarray(inside)


@dataclass(frozen=True, eq=False)
class Seen:
    """How many observers see each cell, and cells seen and asked for, and square metres seen, by each;
    ``which`` has a bit each for up to 64.
    """

    count: Surface
    seen: list[int]
    asked: list[int]
    areas: list[float]
    which: np.ndarray | None

    def by(self, number: int, rows: slice = slice(None)) -> np.ndarray:
        """Cells of some rows that one of up to 64 observers sees (boolean)."""
        which = as_kind(self.which, np.ndarray)[rows]
        return np.asarray(which & which.dtype.type(1 << number) != 0)


class View(NamedTuple):
    """What one observer sees: rows and columns within reach and what ``seen_by`` gives of these; cells seen
    and asked for, and square metres seen.
    """

    rows: slice
    cols: slice
    view: np.ndarray
    seen: int
    asked: int
    area: float


def view_of(sight: Sight, observer: Observer, progress: Progress | None = None) -> View:
    """Look from one observer.

    Parameters
    ----------
    sight
        The ground with what stands on it, made by ``prepare_sight``.
    observer
        Place, heights, reach and limits of one observer.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    View
        What is seen.

    Examples
    --------
    >>> from moss_step.science.sample import ground
    >>> from moss_step.science.sight.observer import Observer, prepare_sight
    >>> from moss_step.science.sight.viewshed import view_of
    >>> view_of(prepare_sight(ground([[0, 0, 9, 0, 0]] * 3)), Observer(1.0, 3.0)).seen
    9
    """
    rows, cols, view = _seen_within(sight, observer, progress or silent())
    in_row = np.empty((len(view), 2), np.int64)
    for some in blocks_of(view):
        in_row[some, 0] = np.count_nonzero(view[some] == 1, axis=1)
        in_row[some, 1] = np.count_nonzero(view[some] != 2, axis=1)
        let_go(view)
    area = float((in_row[:, 0] * sight.frame.row_areas[rows]).sum())
    return View(rows, cols, view, int(in_row[:, 0].sum()), int(in_row[:, 1].sum()), area)


def check_observers(count: int) -> None:
    """Refuse none, and more than are looked from at a time.

    Parameters
    ----------
    count
        How many there are.

    Returns
    -------
    None
        Nothing.

    Raises
    ------
    MossError
        For no observer or more than 10,000.

    Examples
    --------
    >>> from moss_step.science.sight.viewshed import check_observers
    >>> check_observers(12)
    """
    if not 0 < count <= MOST_OBSERVERS:
        raise MossError(f"There are {count:,} observers.", f"Give 1 to {MOST_OBSERVERS:,}.")


def viewshed(
    sight: Sight, observers: Sequence[Observer], progress: Progress | None = None, telling: bool = True
) -> Seen:
    """Look from all observers; counts add up the single views (Wheatley 1995). ``telling`` also says which of
    up to 64 see a cell.

    Parameters
    ----------
    sight
        The ground with what stands on it, made by ``prepare_sight``.
    observers
        The observers; see ``Observer``.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.
    telling
        Whether it is told which observer sees a cell.

    Returns
    -------
    Seen
        Counts, which observers, and the share that each sees.

    Raises
    ------
    MossError
        For no observer or more than 10,000.

    Source
    ------
    Wheatley 1995, Cumulative viewshed analysis.

    Examples
    --------
    >>> from moss_step.science.sample import ground
    >>> from moss_step.science.sight.observer import Observer, prepare_sight
    >>> from moss_step.science.sight.viewshed import viewshed
    >>> ridge = prepare_sight(ground([[0, 0, 9, 0, 0]] * 3))
    >>> viewshed(ridge, [Observer(1.0, 3.0), Observer(9.0, 3.0)]).count.values[1].tolist()
    [1.0, 1.0, 2.0, 1.0, 1.0]
    """
    check_observers(len(observers))
    progress = progress or silent()
    count = grid_beside(sight.ground, np.uint16)
    kind = np.min_scalar_type((1 << len(observers)) - 1) if len(observers) <= 64 else None  # a bit for each
    which = grid_beside(sight.ground, kind) if telling and kind is not None else None
    views = list[View]()
    for k, observer in enumerate(observers):
        progress.at(k / len(observers), f"Looking from {observer.name or k + 1}")
        one = view_of(sight, observer, progress.part(k / len(observers), (k + 1) / len(observers)))
        own = one.rows, one.cols
        _count_up(one.view, count[own], None if which is None else which[own], k)
        views.append(one._replace(view=np.empty(0)))
    values = row_by_row(
        lambda n, z: np.where(np.isnan(z), np.float32(np.nan), n), np.float32, count, sight.ground
    )
    figures = [v.seen for v in views], [v.asked for v in views], [v.area for v in views]
    return Seen(Surface(values, sight.frame, NONE, "seen"), *figures, which)


def _count_up(view: np.ndarray, count: np.ndarray, which: np.ndarray | None, number: int) -> None:
    """Add what one observer sees to the counts, and to the bits of each."""
    for rows in blocks_of(view):
        hit = view[rows] == 1
        count[rows] += hit
        if which is not None:
            which[rows] |= hit * which.dtype.type(1 << number)
        let_go(view, count)


def counted_areas(seen: Surface, most: int) -> tuple[np.ndarray, np.ndarray]:
    """How much is seen by none, by one, and so on up to ``most`` observers or more.

    Parameters
    ----------
    seen
        Numbers of observers, of shape (rows, cols); NaN is no-data.
    most
        The largest number that is told apart.

    Returns
    -------
    tuple[np.ndarray, np.ndarray]
        Cells (int64) and square metres (float64), each of length most + 1.

    Examples
    --------
    >>> from moss_step.science.sample import ground
    >>> from moss_step.science.sight.viewshed import counted_areas
    >>> cells, areas = counted_areas(ground([[0, 1, 1], [0, 0, 3]]), most=2)
    >>> cells.tolist(), areas.tolist()
    ([3, 2, 1], [12.0, 8.0, 4.0])
    """
    in_row = np.zeros((seen.frame.rows, most + 1), np.int64)
    for rows in blocks_of(seen.values, FEW):
        some = seen.values[rows]
        numbers = np.where(np.isnan(some), most + 1, np.minimum(some, most)).astype(np.int64)
        numbers += np.arange(len(some))[:, None] * (most + 2)
        counted = np.bincount(numbers.ravel(), minlength=len(some) * (most + 2))
        in_row[rows] = counted.reshape(-1, most + 2)[:, : most + 1]
    let_go(seen.values)
    return in_row.sum(axis=0), (in_row * seen.frame.row_areas[:, None]).sum(axis=0)


def combinations(which: np.ndarray, most: int) -> tuple[np.ndarray, np.ndarray]:
    """The different values of a grid of bits in ascending order, up to ``most``, and the place of each cell's
    among them (uint8).

    Parameters
    ----------
    which
        Grid of bits, or which kind of line, as the type says.
    most
        The most that there may be.

    Returns
    -------
    tuple[np.ndarray, np.ndarray]
        The values, and the place of each cell's, uint8.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.sight.viewshed import combinations
    >>> combinations(np.array([[1, 3], [3, 0]], np.uint64), most=4)[1].tolist()
    [[1, 2], [2, 0]]
    """
    codes, result = grid_beside(which, np.uint8), np.empty(most, which.dtype)
    kinds = result[: number_cells(which, result, codes)]
    order = np.argsort(kinds)
    place = np.argsort(order).astype(np.uint8)
    return kinds[order], row_by_row(lambda some: place[some], np.uint8, codes)


def mast_heights(sight: Sight, observers: Sequence[Observer], progress: Progress | None = None) -> Surface:
    """Least height above the ground, in metres, at which each place would be seen by at least one observer
    within reach and bearings.

    Parameters
    ----------
    sight
        The ground with what stands on it, made by ``prepare_sight``.
    observers
        The observers; see ``Observer``.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    Surface
        Metres above the ground, float32.

    Examples
    --------
    >>> from moss_step.science.sample import ground
    >>> from moss_step.science.sight.observer import Observer, prepare_sight
    >>> from moss_step.science.sight.viewshed import mast_heights
    >>> ridge = prepare_sight(ground([[0, 0, 9, 0, 0]] * 3))
    >>> mast_heights(ridge, [Observer(1.0, 3.0)]).values[1].astype(float).round(1).tolist()
    [0.0, 0.0, 0.0, 12.7, 16.3]
    """
    out = grid_beside(sight.ground, np.float32, np.nan)
    progress = progress or silent()
    for k, observer in enumerate(observers):
        progress.at(k / len(observers), "Measuring heights")
        free, some = grid_beside(out, np.float32, np.nan), replace(observer, down=-90.0, up=90.0)
        cell, eye = _free_rays(sight, some, free, progress.part(k / len(observers), (k + 1) / len(observers)))
        _limit(free, np.nan, sight, cell, eye, some)
        out = row_by_row(np.fmin, np.float32, out, free)
    return Surface(
        row_by_row(lambda h: np.maximum(h, np.float32(0.0)), np.float32, out), sight.frame, METRE, "height"
    )


def horizon_angles(sight: Sight, observers: Sequence[Observer], progress: Progress | None = None) -> Surface:
    """Degrees by which a target's top stands above the horizon before it, negative where it is hidden below.

    The angle between two rays from the eye: to the top, and past the highest that stands between. Of several
    observers the largest counts; each looks within its reach, bearings and angles. No-data at the observer
    and beside it, where nothing stands between.

    Parameters
    ----------
    sight
        The ground with what stands on it, made by ``prepare_sight``.
    observers
        The observers; see ``Observer``.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    Surface
        Degrees, float32.

    Examples
    --------
    >>> from moss_step.science.sample import ground
    >>> from moss_step.science.sight.observer import Observer, prepare_sight
    >>> from moss_step.science.sight.viewshed import horizon_angles
    >>> ridge = prepare_sight(ground([[0, 0, 9, 0, 0]] * 3))
    >>> horizon_angles(ridge, [Observer(1.0, 3.0)]).values[1].astype(float).round(1).tolist()
    [nan, nan, 101.6, -77.1, -73.3]
    """
    out = grid_beside(sight.ground, np.float32, np.nan)
    progress = progress or silent()
    for k, observer in enumerate(observers):
        progress.at(k / len(observers), "Measuring angles")
        over = grid_beside(out, np.float32, np.nan)
        cell, eye = _free_rays(
            sight, observer, over, progress.part(k / len(observers), (k + 1) / len(observers))
        )
        over = row_by_row(lambda h: np.where(np.isinf(h), np.float32(np.nan), h), np.float32, over)
        _limit(over, np.nan, sight, cell, eye, observer)
        for r in range(sight.frame.rows):  # by row: distances of the whole ground would take much memory
            wide = 0.5 * (sight.sizes[r, 0] + sight.sizes[cell[0], 0])
            d = np.hypot((np.arange(sight.frame.cols) - cell[1]) * wide, (r - cell[0]) * sight.sizes[r, 1])
            level = sight.ground[r] - sight.bend * d**2 - eye
            angle = np.degrees(np.arctan2(level + observer.target, d) - np.arctan2(level + over[r], d))
            out[r] = np.fmax(out[r], angle.astype(np.float32))
    return Surface(out, sight.frame, ANGLE, "angle")


def _free_rays(
    sight: Sight, observer: Observer, out: np.ndarray, progress: Progress
) -> tuple[tuple[int, int], float]:
    """Lower ``out`` to the height above ground of the lowest free ray from an observer; gives its cell and
    eye height.
    """
    cell, eye = place_of(sight, observer)
    where = grid_beside(sight.ground, np.int32)
    # Where each ray most likely rises most: the rest need only be shown to lie lower.
    _preview(sight, observer, cell, eye, where, progress.part(0.0, 0.1))
    surfaces, stand = Surfaces(sight.ground, sight.top, sight.bounds), _stand(sight, cell, eye)
    rows = _rows_within(sight, cell, observer.reach)
    for first, last in progress.part(0.1, 1.0).blocks(rows.stop - rows.start, BLOCK, "Measuring rays"):
        ray_heights(
            surfaces,
            stand,
            sight.sizes,
            Reach(observer.near, observer.reach),
            (rows.start + first, rows.start + last),
            where,
            out,
        )
    return cell, eye
