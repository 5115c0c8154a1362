"""What observers see: by each, by how many, by which, and how high a target must stand."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import NamedTuple

import numpy as np

from moss_step.model.errors import MossError
from moss_step.model.mapped import blocks_of, compact, grid_beside, let_go, row_by_row
from moss_step.model.progress import Progress, silent
from moss_step.model.surface import Surface
from moss_step.model.typed import as_kind
from moss_step.model.units import ANGLE, METRE, NONE
from moss_step.science.sight.kernels.viewshed import number_cells
from moss_step.science.sight.looking import (
    Post,
    cells_out,
    free_in_rows,
    limit_rows,
    note_hiding,
    post_of,
    seen_in_rows,
    seen_roughly,
    sheaves_out,
    window_within,
)
from moss_step.science.sight.observer import Observer, Sight, bounded

SHEAVES, BLOCK, FEW = 64, 64, 100_000
"""Sheaves of rays that are sent out, rows that are worked on, and cells that are counted, at once."""

MOST_OBSERVERS, TOLD_EACH = 10_000, 64
"""How many are looked from at a time; of up to how many it is told which of them see a cell."""


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
    return rows, cols, bounded(dem, ground, top, sight.bend, sight.datum)


def _seen_within(sight: Sight, observer: Observer, progress: Progress) -> tuple[slice, slice, np.ndarray]:
    """What ``seen_by`` gives, of the rows and columns within reach."""
    post = post_of(sight, observer)
    around, aside, sight = _within_reach(sight, post.cell, observer.reach)
    post = post._replace(cell=(post.cell[0] - around.start, post.cell[1] - aside.start))
    where = _hiding(sight, post, progress.part(0.0, 0.3))
    out = grid_beside(sight.ground, np.uint8)
    for rows in progress.part(0.3, 1.0).blocks(sight.frame.rows, BLOCK, "Looking around"):
        some = slice(*rows)
        out[some] = seen_in_rows(sight, post, rows, where[some])
        let_go(where, out)
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
    post = post_of(sight, observer)
    out = grid_beside(sight.ground, np.uint8, 2)
    seen_roughly(sight, post, (0, sheaves_out(sight, post)), out)
    if observer.near <= 0:
        out[post.cell] = 1
    for rows in silent().blocks(sight.frame.rows, BLOCK, ""):
        limit_rows(out[slice(*rows)], 2, sight, post, rows)
    return out


def _hiding(sight: Sight, post: Post, progress: Progress) -> np.ndarray:
    """Where each cell is most likely hidden from: the rest need only be shown to lie lower."""
    where = grid_beside(sight.ground, np.int32)
    each = max(SHEAVES * 512 // cells_out(sight, post), 4)
    for sheaves in progress.blocks(sheaves_out(sight, post), each, "Looking along rays"):
        note_hiding(sight, post, sheaves, where)
    let_go(where)
    return where


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
    return View(rows, cols, view, *figures_of(seen_by_row(view), sight.frame.row_areas[rows]))


def seen_by_row(view: np.ndarray) -> np.ndarray:
    """How many cells of each row are seen, and how many are asked for.

    Parameters
    ----------
    view
        What an observer sees, as ``seen_by`` gives it, or some rows of that.

    Returns
    -------
    np.ndarray
        int64 of shape (rows, 2).

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.sight.viewshed import seen_by_row
    >>> seen_by_row(np.array([[1, 1, 0], [2, 0, 0]], np.uint8)).tolist()
    [[2, 3], [0, 2]]
    """
    in_row = np.empty((len(view), 2), np.int64)
    for some in blocks_of(view):
        in_row[some, 0] = np.count_nonzero(view[some] == 1, axis=1)
        in_row[some, 1] = np.count_nonzero(view[some] != 2, axis=1)
        let_go(view)
    return in_row


def figures_of(in_row: np.ndarray, row_areas: np.ndarray) -> tuple[int, int, float]:
    """Cells seen and asked for, and square metres seen.

    Parameters
    ----------
    in_row
        What ``seen_by_row`` gives of rows.
    row_areas
        Square metres of a cell of each row.

    Returns
    -------
    tuple[int, int, float]
        Two numbers of cells, and square metres.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.sight.viewshed import figures_of
    >>> figures_of(np.array([[2, 3], [0, 2]]), np.array([4.0, 4.0]))
    (2, 5, 8.0)
    """
    return int(in_row[:, 0].sum()), int(in_row[:, 1].sum()), float((in_row[:, 0] * row_areas).sum())


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
    kind = (
        np.min_scalar_type((1 << len(observers)) - 1) if len(observers) <= TOLD_EACH else None
    )  # a bit for each
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

    def heights(post: Post, rows: tuple[int, int], where: np.ndarray) -> np.ndarray:
        return mast_rows(sight, post, rows, where)

    out = _of_all(sight, observers, heights, np.fmin, progress or silent())
    return Surface(row_by_row(above_ground, np.float32, out), sight.frame, METRE, "height")


def above_ground(heights: np.ndarray) -> np.ndarray:
    """Heights of which those below the ground are 0.

    Parameters
    ----------
    heights
        Metres above the ground, float32 of any shape; NaN is no-data.

    Returns
    -------
    np.ndarray
        float32.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.sight.viewshed import above_ground
    >>> above_ground(np.array([-3.0, 2.0], np.float32)).tolist()
    [0.0, 2.0]
    """
    return np.asarray(np.maximum(heights, np.float32(0.0)))


def mast_rows(sight: Sight, post: Post, rows: tuple[int, int], where: np.ndarray) -> np.ndarray:
    """What ``mast_heights`` takes the least of: heights for one observer in some rows, below 0 in plain view.

    Parameters
    ----------
    sight
        The ground with what stands on it, made by ``prepare_sight``.
    post
        The observer at its place, made by ``post_of``; angles of it do not count.
    rows
        The first one, and the end of them.
    where
        int32 of these rows: the steps that are looked at first.

    Returns
    -------
    np.ndarray
        Metres above the ground, float32 of these rows; NaN where the observer does not look.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.sample import ground
    >>> from moss_step.science.sight.looking import post_of
    >>> from moss_step.science.sight.observer import Observer, prepare_sight
    >>> from moss_step.science.sight.viewshed import mast_rows
    >>> ridge = prepare_sight(ground([[0, 0, 9, 0, 0]] * 3))
    >>> post = post_of(ridge, Observer(1.0, 3.0))
    >>> mast_rows(ridge, post, (1, 2), np.zeros((1, 5), np.int32)).round(1)[0, 3:].tolist()
    [12.699999809265137, 16.299999237060547]
    """
    around = post._replace(observer=replace(post.observer, down=-90.0, up=90.0))
    free = free_in_rows(sight, around, rows, where)
    limit_rows(free, np.nan, sight, around, rows)
    return free


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

    def angles(post: Post, rows: tuple[int, int], where: np.ndarray) -> np.ndarray:
        return angle_rows(sight, post, rows, where)

    out = _of_all(sight, observers, angles, np.fmax, progress or silent())
    return Surface(out, sight.frame, ANGLE, "angle")


def angle_rows(sight: Sight, post: Post, rows: tuple[int, int], where: np.ndarray) -> np.ndarray:
    """What ``horizon_angles`` takes the largest of: angles for one observer in some rows.

    Parameters
    ----------
    sight
        The ground with what stands on it, made by ``prepare_sight``.
    post
        The observer at its place, made by ``post_of``.
    rows
        The first one, and the end of them.
    where
        int32 of these rows: the steps that are looked at first.

    Returns
    -------
    np.ndarray
        Degrees, float32 of these rows; NaN where the observer does not look, or nothing stands between.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.sample import ground
    >>> from moss_step.science.sight.looking import post_of
    >>> from moss_step.science.sight.observer import Observer, prepare_sight
    >>> from moss_step.science.sight.viewshed import angle_rows
    >>> ridge = prepare_sight(ground([[0, 0, 9, 0, 0]] * 3))
    >>> post = post_of(ridge, Observer(1.0, 3.0))
    >>> angle_rows(ridge, post, (1, 2), np.zeros((1, 5), np.int32)).astype(float).round(1)[0, 3:].tolist()
    [-77.1, -73.3]
    """
    cell, over = post.cell, free_in_rows(sight, post, rows, where)
    over[np.isinf(over)] = np.float32(np.nan)
    limit_rows(over, np.nan, sight, post, rows)
    out = np.empty_like(over)
    for k, r in enumerate(range(*rows)):  # by row: distances of the whole ground would take much memory
        wide = 0.5 * (sight.sizes[r, 0] + sight.sizes[cell[0], 0])
        d = np.hypot((np.arange(sight.frame.cols) - cell[1]) * wide, (r - cell[0]) * sight.sizes[r, 1])
        level = sight.ground[r] - sight.bend * d**2 - post.eye
        target = post.observer.target
        out[k] = np.degrees(np.arctan2(level + target, d) - np.arctan2(level + over[k], d))
    return out


def _of_all(
    sight: Sight,
    observers: Sequence[Observer],
    found: Callable[[Post, tuple[int, int], np.ndarray], np.ndarray],
    better: Callable[[np.ndarray, np.ndarray], np.ndarray],
    progress: Progress,
) -> np.ndarray:
    """The better of what is found in rows from each observer (float32); NaN where none looks."""
    out = grid_beside(sight.ground, np.float32, np.nan)
    for k, observer in enumerate(observers):
        part = progress.part(k / len(observers), (k + 1) / len(observers))
        post = post_of(sight, observer)
        where = _hiding(sight, post, part.part(0.0, 0.1))
        within, _ = window_within(sight.frame, post.cell, observer.reach)
        for first, last in part.part(0.1, 1.0).blocks(within.stop - within.start, BLOCK, "Measuring rays"):
            rows = within.start + first, within.start + last
            some = slice(*rows)
            out[some] = better(out[some], found(post, rows, where[some]))
            let_go(where, out)
    return out
