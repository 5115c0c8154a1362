"""Looking from one observer, some rays and some rows at a time: first rays go to the rim, and note where each
cell is most likely hidden from; then every target is asked for by its own ray, row by row.

Franklin & Ray 1994, Higher isn't necessarily better: visibility algorithms and experiments. What the first
rays note is looked at first by the others, and changes no result: blocks of rows can be worked on anywhere.
"""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np

from moss_step.model.frame import Frame
from moss_step.model.mapped import grid_beside, let_go
from moss_step.model.progress import Progress
from moss_step.science.sight.kernels.rays import Reach, Stand, Surfaces, ray_heights, see_exactly, see_fast
from moss_step.science.sight.observer import Observer, Sight, place_of, within_bearings
from moss_step.science.sight.rays import sheaves_of

BLOCK, _SHEAVES = 64, 64
"""Rows that are worked on, and sheaves of rays that are sent out, at once."""
_NOTHING = np.empty((0, 0), np.uint8)


class Post(NamedTuple):
    """An observer at its place: row and column of its cell, and metres of its eye above the datum."""

    observer: Observer
    cell: tuple[int, int]
    eye: float

    @property
    def reach(self) -> Reach:
        """The distances that count."""
        return Reach(self.observer.near, self.observer.reach)

    def stand(self, sight: Sight) -> Stand:
        """Where it stands, as kernels take it."""
        wide, high = (float(v) for v in sight.sizes[self.cell[0]])
        return Stand(*self.cell, self.eye, sight.bend, wide, high)


def post_of(sight: Sight, observer: Observer) -> Post:
    """Place an observer on a ground.

    Parameters
    ----------
    sight
        The ground with what stands on it, made by ``prepare_sight``.
    observer
        Place, heights, reach and limits of one observer.

    Returns
    -------
    Post
        The observer with its cell and its eye.

    Raises
    ------
    MossError
        For one outside the ground, on no-data or below the ground, and for a reach that reaches no cell.

    Examples
    --------
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.sight.looking import post_of
    >>> from moss_step.science.sight.observer import Observer, prepare_sight
    >>> post_of(prepare_sight(tilted()), Observer(1.0, 1.0)).cell
    (3, 0)
    """
    return Post(observer, *place_of(sight, observer))


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
    >>> from moss_step.science.sight.looking import window_within
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


def cells_out(sight: Sight, post: Post) -> int:
    """How many cells far rays go: to the rim of the ground, or to the end of the reach.

    Parameters
    ----------
    sight
        The ground with what stands on it, made by ``prepare_sight``.
    post
        The observer at its place, made by ``post_of``.

    Returns
    -------
    int
        Cells, 1 or more.

    Examples
    --------
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.sight.looking import cells_out, post_of
    >>> from moss_step.science.sight.observer import Observer, prepare_sight
    >>> sight = prepare_sight(tilted())
    >>> cells_out(sight, post_of(sight, Observer(1.0, 1.0)))
    4
    """
    (rows, cols), (row, col), reach = sight.frame.shape, post.cell, post.observer.reach
    most = max(row, rows - 1 - row, col, cols - 1 - col, 1)
    if not math.isfinite(reach):
        return most
    stand = post.stand(sight)
    return max(int(min(most, math.ceil(reach / min(stand.wide, stand.high)))), 1)


def sheaves_out(sight: Sight, post: Post) -> int:
    """In how many sheaves rays go out from an observer.

    Parameters
    ----------
    sight
        The ground with what stands on it, made by ``prepare_sight``.
    post
        The observer at its place, made by ``post_of``.

    Returns
    -------
    int
        The number.

    Examples
    --------
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.sight.looking import post_of, sheaves_out
    >>> from moss_step.science.sight.observer import Observer, prepare_sight
    >>> sight = prepare_sight(tilted())
    >>> sheaves_out(sight, post_of(sight, Observer(1.0, 1.0)))
    4
    """
    return sheaves_of(cells_out(sight, post))


def note_hiding(sight: Sight, post: Post, sheaves: tuple[int, int], where: np.ndarray) -> None:
    """Send some sheaves of rays out, and note for each cell near them where it is most likely hidden from.

    Parameters
    ----------
    sight
        The ground with what stands on it, made by ``prepare_sight``.
    post
        The observer at its place, made by ``post_of``.
    sheaves
        The first one, and the end of them.
    where
        int32 of shape (rows, cols): gains the number of the step at which the highest stands.

    Returns
    -------
    None
        Nothing.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.sample import ground
    >>> from moss_step.science.sight.looking import note_hiding, post_of
    >>> from moss_step.science.sight.observer import Observer, prepare_sight
    >>> ridge, where = prepare_sight(ground([[0, 0, 9, 0, 0]] * 3)), np.zeros((3, 5), np.int32)
    >>> note_hiding(ridge, post_of(ridge, Observer(1.0, 3.0)), (0, 4), where)
    >>> where[1].tolist()
    [0, 0, 1, 2, 2]
    """
    _send(sight, post, sheaves, _NOTHING, where)


def hiding(sight: Sight, post: Post, progress: Progress) -> np.ndarray:
    """Where each cell is most likely hidden from, as ``note_hiding`` says: the rest need only be shown to lie
    lower.

    Parameters
    ----------
    sight
        The ground with what stands on it, made by ``prepare_sight``.
    post
        The observer at its place, made by ``post_of``.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for.

    Returns
    -------
    np.ndarray
        int32 of shape (rows, cols).

    Examples
    --------
    >>> from moss_step.model.progress import silent
    >>> from moss_step.science.sample import ground
    >>> from moss_step.science.sight.looking import hiding, post_of
    >>> from moss_step.science.sight.observer import Observer, prepare_sight
    >>> ridge = prepare_sight(ground([[0, 0, 9, 0, 0]] * 3))
    >>> hiding(ridge, post_of(ridge, Observer(1.0, 3.0)), silent())[1].tolist()
    [0, 0, 1, 2, 2]
    """
    where = grid_beside(sight.ground, np.int32)
    each = max(_SHEAVES * 512 // cells_out(sight, post), 4)
    for sheaves in progress.blocks(sheaves_out(sight, post), each, "Looking along rays"):
        note_hiding(sight, post, sheaves, where)
    let_go(where)
    return where


def seen_roughly(sight: Sight, post: Post, sheaves: tuple[int, int], out: np.ndarray) -> None:
    """Say of each cell near some sheaves of rays whether it is seen: 1 or 0 (uint8).

    Parameters
    ----------
    sight
        The ground with what stands on it, made by ``prepare_sight``.
    post
        The observer at its place, made by ``post_of``.
    sheaves
        The first one, and the end of them.
    out
        uint8 of shape (rows, cols), which is written into.

    Returns
    -------
    None
        Nothing.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.sample import ground
    >>> from moss_step.science.sight.looking import post_of, seen_roughly
    >>> from moss_step.science.sight.observer import Observer, prepare_sight
    >>> ridge, out = prepare_sight(ground([[0, 0, 9, 0, 0]] * 3)), np.full((3, 5), 2, np.uint8)
    >>> seen_roughly(ridge, post_of(ridge, Observer(1.0, 3.0)), (0, 4), out)
    >>> out[1].tolist()
    [2, 1, 1, 0, 0]
    """
    _send(sight, post, sheaves, out, np.empty((0, 0), np.int32))


def _send(sight: Sight, post: Post, sheaves: tuple[int, int], out: np.ndarray, where: np.ndarray) -> None:
    surfaces = Surfaces(sight.ground, sight.top, sight.tiles)
    cells = cells_out(sight, post)
    see_fast(surfaces, post.stand(sight), post.observer.target, cells, post.reach, sheaves, out, where)


def seen_in_rows(sight: Sight, post: Post, rows: tuple[int, int], where: np.ndarray) -> np.ndarray:
    """What is seen in some rows, every target by its own ray, within reach, bearings and angles.

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
        1 seen, 0 hidden, 2 not asked for or no-data; uint8 of these rows.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.sample import ground
    >>> from moss_step.science.sight.looking import post_of, seen_in_rows
    >>> from moss_step.science.sight.observer import Observer, prepare_sight
    >>> ridge = prepare_sight(ground([[0, 0, 9, 0, 0]] * 3))
    >>> seen_in_rows(ridge, post_of(ridge, Observer(1.0, 3.0)), (1, 2), np.zeros((1, 5), np.int32)).tolist()
    [[1, 1, 1, 0, 0]]
    """
    out = np.empty(where.shape, np.uint8)
    surfaces, target = Surfaces(sight.ground, sight.top, sight.bounds), post.observer.target
    see_exactly(surfaces, post.stand(sight), target, sight.sizes, post.reach, rows, where, out)
    limit_rows(out, 2, sight, post, rows)
    return out


def free_in_rows(sight: Sight, post: Post, rows: tuple[int, int], where: np.ndarray) -> np.ndarray:
    """Height above the ground of the lowest free ray over each cell of some rows; below it negative.

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
        Metres, float32 of these rows; -inf where nothing stands between, NaN beyond reach.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.sample import ground
    >>> from moss_step.science.sight.looking import free_in_rows, post_of
    >>> from moss_step.science.sight.observer import Observer, prepare_sight
    >>> ridge = prepare_sight(ground([[0, 0, 9, 0, 0]] * 3))
    >>> free = free_in_rows(ridge, post_of(ridge, Observer(1.0, 3.0)), (1, 2), np.zeros((1, 5), np.int32))
    >>> free[0, 3:].round(1).tolist()
    [12.699999809265137, 16.299999237060547]
    """
    out = np.full(where.shape, np.float32(np.nan))
    surfaces = Surfaces(sight.ground, sight.top, sight.bounds)
    ray_heights(surfaces, post.stand(sight), sight.sizes, post.reach, rows, where, out)
    return out


def limit_rows(out: np.ndarray, outside: float, sight: Sight, post: Post, rows: tuple[int, int]) -> None:
    """Give cells of some rows beyond the bearings and angles of an observer another value.

    Parameters
    ----------
    out
        Values of these rows, which are written into.
    outside
        The other value.
    sight
        The ground with what stands on it, made by ``prepare_sight``.
    post
        The observer at its place, made by ``post_of``.
    rows
        The first one, and the end of them.

    Returns
    -------
    None
        Nothing.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.sight.looking import limit_rows, post_of
    >>> from moss_step.science.sight.observer import Observer, prepare_sight
    >>> sight, out = prepare_sight(tilted()), np.ones((1, 5), np.uint8)
    >>> post = post_of(sight, Observer(5.0, 5.0, bearing_from=0.0, bearing_to=90.0))
    >>> limit_rows(out, 2, sight, post, (0, 1))
    >>> out.tolist()
    [[2, 2, 1, 1, 1]]
    """
    if post.observer.limited:
        out[~_within(sight, rows, post)] = outside


def _within(sight: Sight, rows: tuple[int, int], post: Post) -> np.ndarray:
    """Cells of some rows within the bearings and angles of an observer."""
    cell, observer = post.cell, post.observer
    r, c = np.mgrid[rows[0] : rows[1], 0 : sight.frame.cols]
    east = (c - cell[1]) * 0.5 * (sight.sizes[r, 0] + sight.sizes[cell[0], 0])
    north = (cell[0] - r) * sight.sizes[r, 1]
    inside = within_bearings(np.degrees(np.arctan2(east, north)), observer)
    d = np.hypot(east, north)
    with np.errstate(invalid="ignore", divide="ignore"):
        level = sight.ground[rows[0] : rows[1]] + observer.target - sight.bend * d**2 - post.eye
        angle = np.degrees(np.arctan2(level, d))
        inside &= (angle >= observer.down) & (angle <= observer.up)
    inside[(r == cell[0]) & (c == cell[1])] = True
    return np.asarray(inside)
