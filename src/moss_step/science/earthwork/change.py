"""What changed between two surveys: offsets on ground that stayed, the least change that can be told, and how
sure a volume is.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from statistics import NormalDist
from typing import Literal

import numpy as np

from moss_step.model.errors import MossError
from moss_step.model.frame import Frame
from moss_step.science.earthwork.kernels.changes import SUMS, change_sums

Way = Literal["none", "mean", "tilt", "shift"]
_FEWEST = 30
"""Cells of ground that stayed, for an offset to be told."""


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
    >>> from moss_step.science.earthwork.change import offset_of
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


def added_up(
    off: np.ndarray, shares: np.ndarray | None, frame: Frame, least: float, counted: bool
) -> tuple[float, ...]:
    """What went and what came.

    Parameters
    ----------
    off
        Changes in metres (rows, cols), NaN unknown.
    shares
        Share of each cell that counts (rows, cols), None for all.
    frame
        Where the cells lie.
    least
        Metres below which a change cannot be told.
    counted
        Whether such changes count all the same.

    Returns
    -------
    tuple of float
        Cubic metres lowered and raised, square metres of each, of all, and of what can be told.

    Raises
    ------
    ValueError
        For shares of another shape.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.model.frame import Frame
    >>> from moss_step.science.earthwork.change import added_up
    >>> frame = Frame(1, 3, 0.0, 1.0, 1.0, 1.0, None)
    >>> added_up(np.array([[-2.0, 0.01, 1.0]]), None, frame, 0.1, False)
    (2.0, 1.0, 1.0, 1.0, 3.0, 2.0)
    """
    if shares is not None and shares.shape != off.shape:
        raise ValueError("shares and changes are of other cells")
    sums = np.zeros((off.shape[0], SUMS))
    held = np.empty((0, 0)) if shares is None else np.ascontiguousarray(shares)
    areas = np.ascontiguousarray(frame.row_areas, np.float64)
    change_sums(np.ascontiguousarray(off), held, areas, least, counted, sums)
    return tuple(sums.sum(axis=0).tolist())


def least_detectable(error_before: float, error_after: float, probability: float) -> float:
    """The change in metres that two surveys tell apart from none.

    Parameters
    ----------
    error_before
        Standard error of the earlier survey, in metres.
    error_after
        Standard error of the later one.
    probability
        How sure it has to be, such as 0.95.

    Returns
    -------
    float
        Metres: the quantile of both sides times the root of the summed squares.

    Source
    ------
    Brasington et al. 2003; Lane et al. 2003.

    Examples
    --------
    >>> from moss_step.science.earthwork.change import least_detectable
    >>> round(least_detectable(0.03, 0.04, 0.95), 3)
    0.098
    """
    return NormalDist().inv_cdf(0.5 + probability / 2.0) * math.hypot(error_before, error_after)


def volume_error(spread: float, area: float, cell: float, reach: float) -> float:
    """Standard error of a volume from errors that are alike within some distance.

    Parameters
    ----------
    spread
        Standard error of the change of a cell, in metres.
    area
        Area that is added up, in square metres.
    cell
        Area of a cell.
    reach
        Range of a spherical variogram of the errors, in metres; 0 for errors of their own in each cell.

    Returns
    -------
    float
        Cubic metres: the spread times √(area × cell) for errors of their own, times √(area × πa²/5) for those
        of a range a, and never more than if all were alike.

    Source
    ------
    Rolstad, Haug and Denby 2009, Spatially integrated geodetic glacier mass balance and its uncertainty
    (equation for areas wider than the range).

    Examples
    --------
    >>> from moss_step.science.earthwork.change import volume_error
    >>> volume_error(0.1, 400.0, 1.0, 0.0), volume_error(0.1, 1.0, 1.0, 50.0)
    (2.0, 0.1)
    """
    alike = max(cell, math.pi * reach * reach / 5.0)
    return spread * math.sqrt(area * min(alike, area))
