"""What observers see: by each, by how many, by which, and how high a target must stand."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import NamedTuple

import numpy as np

from moss_step.model.errors import MossError
from moss_step.model.mapped import blocks_of, compact, grid_beside, let_go, row_by_row
from moss_step.model.progress import Progress, silent
from moss_step.model.surface import Surface
from moss_step.model.typed import as_kind
from moss_step.model.units import NONE
from moss_step.science.sight.kernels.viewshed import number_cells
from moss_step.science.sight.looking import (
    BLOCK,
    hiding,
    limit_rows,
    post_of,
    seen_in_rows,
    seen_roughly,
    sheaves_out,
    window_within,
)
from moss_step.science.sight.observer import Observer, Sight, bounded

FEW = 100_000
"""Cells that are counted at once."""

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
    where = hiding(sight, post, progress.part(0.0, 0.3))
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
