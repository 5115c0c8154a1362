"""Class breaks from the values themselves: equal interval, equal count and natural breaks."""

from __future__ import annotations

from typing import Literal, NamedTuple

import numpy as np

from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.mapped import blocks_of, let_go
from moss_step.model.summary import summarise
from moss_step.model.surface import Surface
from moss_step.science.classes.kernels.breaks import add_classes, best_ends, fill_bins
from moss_step.science.classes.quantiles import quantiles

BreakMethod = Literal["equal_interval", "equal_count", "natural"]
BINS = 4096
"""Most distinct values, or bins of values, that natural breaks are searched over; every cell counts in its
bin.
"""
_FEW, _BLOCKS = 4 * BINS, 8


def breaks(surface: Surface, method: BreakMethod, count: int) -> list[float]:
    """Bounds of ``count`` classes, ascending: ``count + 1`` values, the first and last the surface's range.

    ``equal_interval`` splits the range, ``equal_count`` takes quantiles, ``natural`` finds the split with the
    least squared deviation inside the classes (``natural_breaks``). Equal bounds are merged, so fewer may
    come back.

    Parameters
    ----------
    surface
        Values of shape (rows, cols); NaN is no-data.
    method
        Which of the published methods, see above.
    count
        How many are asked for, or there are.

    Returns
    -------
    list[float]
        Bounds, at most ``count + 1``.

    Raises
    ------
    AskedWronglyError
        For fewer than 2 classes, or more than 50.
    MossError
        Without values.

    Source
    ------
    Fisher 1958, J. Am. Stat. Assoc. 53; Jenks 1967, Int. Yearbook of Cartography 7.

    Examples
    --------
    >>> from moss_step.science.classes.breaks import breaks
    >>> from moss_step.science.sample import tilted
    >>> breaks(tilted(), "equal_interval", 4)
    [0.0, 2.0, 4.0, 6.0, 8.0]
    """
    if not 2 <= count <= 50:
        raise AskedWronglyError(f"{count} classes are not possible.", "Ask for 2 to 50.")
    if surface.range is None:
        raise MossError("The surface has no values to find breaks in.", "Choose another surface.")
    low, high = surface.range
    if low == high:
        raise MossError(f"Every cell holds {low:g}, so there is nothing to split.", "Choose another surface.")
    if method == "equal_interval":
        result = np.linspace(low, high, count + 1)
    elif method == "equal_count":
        result = quantiles(surface.values, np.linspace(0.0, 1.0, count + 1))
    else:
        result = np.concatenate([[low], natural_breaks(surface.values, count)])
    result[0], result[-1] = low, high
    return [float(v) for v in np.unique(result.astype(surface.values.dtype))]


class Bins(NamedTuple):
    """Values in ascending bins: cells, sum and sum of squares (less some base) and highest value of each."""

    cells: np.ndarray
    total: np.ndarray
    square: np.ndarray
    highest: np.ndarray


def binned(values: np.ndarray, most: int = BINS) -> Bins:
    """Put all values that are not NaN in bins: one for each distinct value of a few, else ``most`` bins of
    one width.

    Parameters
    ----------
    values
        Values as an array; NaN is no value.
    most
        The most that there may be.

    Returns
    -------
    Bins
        Values, counts and sums of each bin.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.classes.breaks import binned
    >>> binned(np.array([1.0, 2.0, 2.0])).cells.tolist()
    [1.0, 2.0]
    """
    if values.size <= _FEW:
        distinct = np.unique(values[~np.isnan(values)])
        if distinct.size <= most:
            return _one_each(values, distinct)
    grid = np.atleast_2d(values)
    known = summarise(grid)
    low, high = known.low, known.high
    sums = np.zeros((_BLOCKS, 3, most)), np.full((_BLOCKS, most), -np.inf)
    base = 0.5 * (low + high)
    for rows in blocks_of(grid):
        some = np.ascontiguousarray(grid[rows]).reshape(-1)
        fill_bins(some, low, most / (high - low), base, *sums)
        let_go(grid)
    (cells, total, square), highest = sums[0].sum(axis=0), sums[1].max(axis=0)
    used = cells > 0
    return Bins(cells[used], total[used], square[used], highest[used])


def _one_each(values: np.ndarray, distinct: np.ndarray) -> Bins:
    cells = np.bincount(np.searchsorted(distinct, values[~np.isnan(values)])).astype(np.float64)
    above = distinct.astype(np.float64) - 0.5 * (float(distinct[0]) + float(distinct[-1]))
    return Bins(cells, cells * above, cells * above * above, distinct.astype(np.float64))


def natural_breaks(values: np.ndarray, count: int) -> np.ndarray:
    """Upper bounds of ``count`` natural classes of an array: the split with the least squared deviation from
    the class means.

    Fisher 1958, J. Am. Stat. Assoc. 53; Jenks 1967. The search is optimal over all cells in up to 4,096 bins,
    and so over the cells themselves where they hold no more distinct values: dynamic programming with the
    split of a longer row never before that of a shorter one (Wang & Song 2011, The R Journal 3). A bound is
    the highest value of its class.

    Parameters
    ----------
    values
        Values as an array; NaN is no value.
    count
        How many are asked for, or there are.

    Returns
    -------
    np.ndarray
        Upper bounds, at most ``count``, ascending.

    Source
    ------
    Fisher 1958, J. Am. Stat. Assoc. 53; Wang & Song 2011, The R Journal 3.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.classes.breaks import natural_breaks
    >>> natural_breaks(np.array([1.0, 2.0, 3.0, 10.0, 11.0, 12.0]), 2).tolist()
    [3.0, 12.0]
    """
    bins = binned(values)
    ends = best_ends(bins.cells, bins.total, bins.square, min(count, bins.cells.size))
    result: np.ndarray = bins.highest[ends]
    return result


def variance_fit(surface: Surface, bounds: list[float]) -> float:
    """Goodness of variance fit of classes between ascending bounds, 0 to 1: the share of the variance that
    lies between them.

    Jenks 1967; over all cells, those on a bound with the class below it.

    Parameters
    ----------
    surface
        Values of shape (rows, cols); NaN is no-data.
    bounds
        Ascending bounds of classes.

    Returns
    -------
    float
        Share of 1.

    Source
    ------
    Jenks 1967, Int. Yearbook of Cartography 7.

    Examples
    --------
    >>> from moss_step.science.classes.breaks import variance_fit
    >>> from moss_step.science.sample import tilted
    >>> variance_fit(tilted(), [0.0, 3.0, 8.0])
    0.75
    """
    inner = np.unique(np.array(bounds, np.float64))[1:-1].astype(surface.values.dtype).astype(np.float64)
    sums = np.zeros((_BLOCKS, 3, len(inner) + 1))
    for rows in blocks_of(surface.values):
        some = np.ascontiguousarray(surface.values[rows]).reshape(-1)
        add_classes(some, inner, surface.summary.mean, sums)
        let_go(surface.values)
    cells, total, square = sums.sum(axis=0)
    held, whole = float((total[cells > 0] ** 2 / cells[cells > 0]).sum()), float(square.sum())
    return held / whole if whole > 0 else 1.0
