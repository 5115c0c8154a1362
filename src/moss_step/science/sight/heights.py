"""How tall something must stand to be seen, and how far it stands above the horizon: by the rays from one
observer after another.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace

import numpy as np

from moss_step.model.mapped import grid_beside, let_go, row_by_row
from moss_step.model.progress import Progress, silent
from moss_step.model.surface import Surface
from moss_step.model.units import ANGLE, METRE
from moss_step.science.sight.looking import (
    BLOCK,
    Post,
    free_in_rows,
    hiding,
    limit_rows,
    post_of,
    window_within,
)
from moss_step.science.sight.observer import Observer, Sight


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
    >>> from moss_step.science.sight.heights import mast_heights
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
    >>> from moss_step.science.sight.heights import above_ground
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
    >>> from moss_step.science.sight.heights import mast_rows
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
    >>> from moss_step.science.sight.heights import horizon_angles
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
    >>> from moss_step.science.sight.heights import angle_rows
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
        where = hiding(sight, post, part.part(0.0, 0.1))
        within, _ = window_within(sight.frame, post.cell, observer.reach)
        for first, last in part.part(0.1, 1.0).blocks(within.stop - within.start, BLOCK, "Measuring rays"):
            rows = within.start + first, within.start + last
            some = slice(*rows)
            out[some] = better(out[some], found(post, rows, where[some]))
            let_go(where, out)
    return out
