"""How one survey lies to another, told on ground that stayed."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Literal

import numpy as np

from moss_step.model.errors import MossError
from moss_step.model.frame import Frame
from moss_step.model.mapped import blocks_of, let_go, row_by_row

Way = Literal["none", "mean", "tilt", "shift"]
_FEWEST = 30
"""Cells of ground that stayed, for an offset to be told."""
_ROBUST, _SPREADS, _LEAST_SPREAD = 1.4826, 3.0, 1e-6
"""What makes a median deviation a spread, spreads within which ground stayed, and metres at the least."""


@dataclass(frozen=True)
class Offset:
    """How one survey lies to another on ground that stayed: metres to the east and north, up, and the rise of
    a tilt by a column and a row; the spread of what is left, and the cells that told it.
    """

    east: float
    north: float
    up: float
    by_column: float
    by_row: float
    spread: float
    cells: int


def offset_of(
    before: np.ndarray, after: np.ndarray, stayed: np.ndarray, frame: Frame, way: Way, metres: float = 1.0
) -> Offset:
    """The offset of the later survey from the earlier one.

    Parameters
    ----------
    before
        Heights (rows, cols).
    after
        Heights of the same cells.
    stayed
        Cells that did not move.
    frame
        Where the cells lie.
    way
        ``mean`` finds what is added, ``tilt`` a plane, ``shift`` a way to the side, too.
    metres
        Metres in the unit of the heights.

    Returns
    -------
    Offset
        What is to be taken out; zeros for ``none``, with the spread as it is.

    Raises
    ------
    MossError
        When too few cells stayed, or the ground is too flat to tell a shift.

    Source
    ------
    Nuth and Kääb 2011, Co-registration and bias corrections of satellite elevation data sets, for the shift:
    here in its linear form, by the gradient of the ground.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.model.frame import Frame
    >>> from moss_step.science.earthwork.offsets import offset_of
    >>> frame, ground = Frame(8, 8, 0.0, 8.0, 1.0, 1.0, None), np.add.outer(np.arange(8.0), np.arange(8.0))
    >>> offset_of(ground, ground + 0.3, np.ones((8, 8), bool), frame, "mean").cells
    64
    """
    rows, cols = _known(before, after, stayed)
    if rows.size < _FEWEST:
        raise MossError(
            f"Only {rows.size} cells of ground that stayed have both heights.",
            "Draw a larger area that did not move.",
        )
    off = after[rows, cols].astype(np.float64) * metres - before[rows, cols].astype(np.float64) * metres
    let_go(before, after)
    if way == "none":
        return Offset(0.0, 0.0, 0.0, 0.0, 0.0, float(off.std()), off.size)
    if way == "mean":
        return Offset(0.0, 0.0, float(off.mean()), 0.0, 0.0, float(off.std()), off.size)
    if way == "tilt":
        table = np.column_stack([np.ones(off.size), cols + 0.5, rows + 0.5])
        (up, by_column, by_row), *_ = np.linalg.lstsq(table, off, rcond=None)
        left = off - table @ np.array([up, by_column, by_row])
        return Offset(0.0, 0.0, float(up), float(by_column), float(by_row), float(left.std()), off.size)
    return _shifted(_rises(before, rows, cols, frame, metres), off)


def _known(before: np.ndarray, after: np.ndarray, stayed: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Rows and columns of the cells that stayed and have both heights."""
    found = []
    for some in blocks_of(stayed):
        rows, cols = np.nonzero(stayed[some] & np.isfinite(before[some]) & np.isfinite(after[some]))
        found.append((rows + some.start, cols))
        let_go(before, after, stayed)
    return np.concatenate([r for r, _ in found]), np.concatenate([c for _, c in found])


def _rises(before: np.ndarray, rows: np.ndarray, cols: np.ndarray, frame: Frame, metres: float) -> np.ndarray:
    """What the ground rises by a metre to the west and to the south in some cells (n, 2), by the cells
    beside them.
    """
    wide, high = frame.cell_metres
    count_down, count_across = before.shape

    def height(r: np.ndarray, c: np.ndarray) -> np.ndarray:
        return np.asarray(before[r, c].astype(np.float64) * metres)

    west, east = np.maximum(cols - 1, 0), np.minimum(cols + 1, count_across - 1)
    up, down = np.maximum(rows - 1, 0), np.minimum(rows + 1, count_down - 1)
    across = (height(rows, east) - height(rows, west)) / np.maximum(east - west, 1)
    along = (height(down, cols) - height(up, cols)) / np.maximum(down - up, 1)
    let_go(before)
    return np.column_stack([-across / wide, along / high])


def _shifted(rises: np.ndarray, off: np.ndarray) -> Offset:
    """A shift: heights change by what the ground rises against it, where it rises."""
    rises = np.column_stack([rises, np.ones(off.size)])
    there = np.isfinite(rises).all(axis=1)
    rises, off = rises[there], off[there]
    if off.size < _FEWEST or np.linalg.matrix_rank(rises, tol=1e-6 * math.sqrt(off.size)) < 3:
        raise MossError(
            "The ground that stayed is too flat, or falls one way: a shift to the side cannot be told.",
            "Take slopes that face several ways, or take out a tilt.",
        )
    (east, north, up), *_ = np.linalg.lstsq(rises, off, rcond=None)
    left = off - rises @ np.array([east, north, up])
    return Offset(float(east), float(north), float(up), 0.0, 0.0, float(left.std()), off.size)


def stayed_by_change(off: np.ndarray, within: np.ndarray) -> np.ndarray:
    """Ground that most likely stayed: where the change is like that of most of the ground.

    Parameters
    ----------
    off
        Changes in metres (rows, cols), NaN unknown.
    within
        Cells that may be proposed.

    Returns
    -------
    np.ndarray
        Cells within three robust spreads of the median change (rows, cols).

    Raises
    ------
    MossError
        When no change is known.

    Source
    ------
    Median and its absolute deviation, times 1.4826: Höhle and Höhle 2009, Accuracy assessment of digital
    elevation models by means of robust statistical methods.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.earthwork.offsets import stayed_by_change
    >>> stayed_by_change(np.array([[0.1, 0.0, 0.2, -5.0]]), np.ones((1, 4), bool)).tolist()
    [[True, True, True, False]]
    """
    known = np.concatenate([(some := off[r])[within[r] & np.isfinite(some)] for r in blocks_of(off)])
    if not known.size:
        raise MossError("No change is known where the ground may have stayed.", "Draw ground that stayed.")
    middle = float(np.median(known))
    spread = _ROBUST * float(np.median(np.abs(known - middle)))
    most = max(_SPREADS * spread, _LEAST_SPREAD)

    def near(changes: np.ndarray, free: np.ndarray) -> np.ndarray:
        with np.errstate(invalid="ignore"):
            return np.asarray(free & (np.abs(changes - middle) <= most))

    return row_by_row(near, bool, off, within)
