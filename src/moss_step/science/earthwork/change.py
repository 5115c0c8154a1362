"""What changed between two surveys: the least change that can be told, and how sure a volume is."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from statistics import NormalDist

import numpy as np

from moss_step.model.frame import Frame
from moss_step.model.mapped import blocks_of, let_go
from moss_step.science.earthwork.kernels.changes import SUMS, change_sums


@dataclass(frozen=True)
class Counted:
    """Which changes count: those of at least ``factor`` times their spread, or all.

    ``spread`` is the standard error of a change in metres, of each cell (rows, cols) or of all (1, 1);
    ``shares`` of each cell (rows, cols) count, all of it where they are None.
    """

    spread: np.ndarray
    factor: float
    everything: bool = False
    shares: np.ndarray | None = None

    def of_rows(self, rows: slice) -> Counted:
        """The same of some rows."""
        spread = self.spread if self.spread.size == 1 else self.spread[rows]
        return replace(self, spread=spread, shares=None if self.shares is None else self.shares[rows])

    @property
    def arrays(self) -> tuple[np.ndarray, ...]:
        """Spreads, and shares where there are any."""
        return (self.spread,) if self.shares is None else (self.spread, self.shares)

    def ready(self) -> tuple[np.ndarray, np.ndarray]:
        """Shares and spreads as kernels take them."""
        shares = np.empty((0, 0)) if self.shares is None else np.ascontiguousarray(self.shares)
        return shares, np.ascontiguousarray(self.spread, np.float64)


@dataclass(frozen=True)
class Sums:
    """What went and what came: cubic metres lowered and raised, square metres of each, of all and of what can
    be told, cubic metres lowered and raised that cannot; and spread times area (m³), and squared spread times
    area (m⁴), of what counts as lowered, as raised, and at all.
    """

    lowered: float
    raised: float
    lowered_area: float
    raised_area: float
    whole: float
    told: float
    small_lowered: float
    small_raised: float
    lowered_one: float
    lowered_two: float
    raised_one: float
    raised_two: float
    all_one: float
    all_two: float


def added_up(off: np.ndarray, frame: Frame, counted: Counted) -> Sums:
    """What went and what came.

    Parameters
    ----------
    off
        Changes in metres (rows, cols), NaN unknown.
    frame
        Where the cells lie.
    counted
        Which of them count.

    Returns
    -------
    Sums
        Volumes and areas.

    Raises
    ------
    ValueError
        For shares of another shape.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.model.frame import Frame
    >>> from moss_step.science.earthwork.change import Counted, added_up
    >>> frame = Frame(1, 3, 0.0, 1.0, 1.0, 1.0, None)
    >>> found = added_up(np.array([[-2.0, 0.01, 1.0]]), frame, Counted(np.array([[0.1]]), 1.0))
    >>> found.lowered, found.raised, found.whole, found.told, found.small_raised
    (2.0, 1.0, 3.0, 2.0, 0.01)
    """
    return sums_of(rows_added_up(off, frame.row_areas, counted))


def rows_added_up(off: np.ndarray, areas: np.ndarray, counted: Counted) -> np.ndarray:
    """What went and what came in each row.

    Parameters
    ----------
    off
        Changes in metres (rows, cols), NaN unknown.
    areas
        Square metres of a cell of each row.
    counted
        Which of the changes count.

    Returns
    -------
    np.ndarray
        Sums of each row (rows, 14), as ``sums_of`` takes them.

    Raises
    ------
    ValueError
        For shares of another shape.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.earthwork.change import Counted, rows_added_up
    >>> rows_added_up(np.array([[-2.0, 1.0]]), np.ones(1), Counted(np.array([[0.1]]), 1.0))[0, :2].tolist()
    [2.0, 1.0]
    """
    if counted.shares is not None and counted.shares.shape != off.shape:
        raise ValueError("shares and changes are of other cells")
    sums, areas = np.zeros((off.shape[0], SUMS)), np.ascontiguousarray(areas, np.float64)
    for rows in blocks_of(off):
        shares, spread = counted.of_rows(rows).ready()
        some = np.ascontiguousarray(off[rows])
        change_sums(some, shares, areas[rows], spread, counted.factor, counted.everything, sums[rows])
        let_go(off, *counted.arrays)
    return sums


def sums_of(rows: np.ndarray) -> Sums:
    """What went and what came in all rows.

    Parameters
    ----------
    rows
        Sums of each row (rows, 14).

    Returns
    -------
    Sums
        Volumes and areas.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.earthwork.change import sums_of
    >>> sums_of(np.ones((2, 14))).lowered
    2.0
    """
    return Sums(*rows.sum(axis=0).tolist())


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
    return quantile(probability) * math.hypot(error_before, error_after)


def quantile(probability: float) -> float:
    """Spreads that hold a share of all cases, to both sides of the mean.

    Parameters
    ----------
    probability
        The share, such as 0.95.

    Returns
    -------
    float
        Spreads.

    Raises
    ------
    ValueError
        For what is no share below 1.

    Examples
    --------
    >>> from moss_step.science.earthwork.change import quantile
    >>> round(quantile(0.95), 3)
    1.96
    """
    return NormalDist().inv_cdf(0.5 + probability / 2.0)


def volume_error(one: float, two: float, cell: float, reach: float) -> float:
    """Standard error of a volume from errors that are alike within some distance.

    Parameters
    ----------
    one
        Standard errors of the changes times the areas of their cells, added up: cubic metres, those that the
        volume would be off by if all were alike.
    two
        Squared standard errors times areas, added up.
    cell
        Area of a cell in square metres.
    reach
        Range of a spherical variogram of the errors, in metres; 0 for errors of their own in each cell.

    Returns
    -------
    float
        Cubic metres: √(two × cell) for errors of their own, √(two × πa²/5) for those of a range a, and never
        more than ``one``.

    Source
    ------
    Rolstad, Haug and Denby 2009, Spatially integrated geodetic glacier mass balance and its uncertainty
    (equation for areas wider than the range).

    Examples
    --------
    >>> from moss_step.science.earthwork.change import volume_error
    >>> round(volume_error(40.0, 4.0, 1.0, 0.0), 6), volume_error(0.1, 0.01, 1.0, 50.0)
    (2.0, 0.1)
    """
    alike = max(cell, math.pi * reach * reach / 5.0)
    return min(math.sqrt(two * alike), one)
