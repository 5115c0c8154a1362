"""How one survey lies to another, told on ground that stayed."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Literal

import numpy as np

from moss_step.model.errors import MossError
from moss_step.model.frame import Frame

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


def offset_of(before: np.ndarray, after: np.ndarray, stayed: np.ndarray, frame: Frame, way: Way) -> Offset:
    """The offset of the later survey from the earlier one.

    Parameters
    ----------
    before
        Heights in metres (rows, cols).
    after
        Heights in metres of the same cells.
    stayed
        Cells that did not move.
    frame
        Where the cells lie.
    way
        ``mean`` finds what is added, ``tilt`` a plane, ``shift`` a way to the side, too.

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
    known = stayed & np.isfinite(before) & np.isfinite(after)
    if np.count_nonzero(known) < _FEWEST:
        raise MossError(
            f"Only {np.count_nonzero(known)} cells of ground that stayed have both heights.",
            "Draw a larger area that did not move.",
        )
    off = (after - before)[known]
    if way == "none":
        return Offset(0.0, 0.0, 0.0, 0.0, 0.0, float(off.std()), off.size)
    if way == "mean":
        return Offset(0.0, 0.0, float(off.mean()), 0.0, 0.0, float(off.std()), off.size)
    rows, cols = np.nonzero(known)
    if way == "tilt":
        table = np.column_stack([np.ones(off.size), cols + 0.5, rows + 0.5])
        (up, by_column, by_row), *_ = np.linalg.lstsq(table, off, rcond=None)
        left = off - table @ np.array([up, by_column, by_row])
        return Offset(0.0, 0.0, float(up), float(by_column), float(by_row), float(left.std()), off.size)
    return _shifted(before, off, known, frame)


def _shifted(before: np.ndarray, off: np.ndarray, known: np.ndarray, frame: Frame) -> Offset:
    """A shift: heights change by what the ground rises against it, where it rises."""
    wide, high = frame.cell_metres
    by_row, by_col = np.gradient(before)
    rises = np.column_stack([-(by_col / wide)[known], (by_row / high)[known], np.ones(off.size)])
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
    known = off[within & np.isfinite(off)]
    if not known.size:
        raise MossError("No change is known where the ground may have stayed.", "Draw ground that stayed.")
    middle = float(np.median(known))
    spread = _ROBUST * float(np.median(np.abs(known - middle)))
    with np.errstate(invalid="ignore"):
        return np.asarray(within & (np.abs(off - middle) <= max(_SPREADS * spread, _LEAST_SPREAD)))
