"""Quantiles of all values of a grid, to the last bit, without sorting or copying it."""

from __future__ import annotations

from collections.abc import Sequence

import numba
import numpy as np

from moss_step.model.mapped import blocks_of, let_go
from moss_step.science.classes.kernels.quantiles import DIGIT, count_digits


def quantiles(values: np.ndarray, shares: Sequence[float] | np.ndarray) -> np.ndarray:
    """Values below which shares of all values lie, linear between the two values next to each place.

    The same as a sort would give (method 7 of Hyndman & Fan 1996): a value of each rank is found digit by
    digit, by counting how many values have each digit behind those that are known already (selection by
    radix: Knuth 1998, The Art of Computer Programming 3, 5.2.5).

    Parameters
    ----------
    values
        Values of shape (rows, cols), float32 or float64; NaN is no value.
    shares
        Shares of 1.

    Returns
    -------
    np.ndarray
        A value for each share, in the type of the values; NaN where there are none.

    Source
    ------
    Hyndman & Fan 1996, Sample quantiles in statistical packages, The American Statistician 50.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.classes.quantiles import quantiles
    >>> quantiles(np.array([[4.0, 1.0], [np.nan, 2.0]]), [0.0, 0.5, 0.75]).tolist()
    [1.0, 2.0, 3.0]
    """
    grid = np.atleast_2d(values)
    count = _counted(grid, 0, np.zeros(1, np.uint64)).sum()
    if count == 0:
        return np.full(len(shares), np.nan, values.dtype)
    place = np.asarray(shares, np.float64) * float(count - 1)
    low = np.floor(place).astype(np.int64)
    pairs = np.stack([low, np.minimum(low + 1, count - 1)])
    ranks, at = np.unique(pairs, return_inverse=True)
    found = _of_ranks(grid, ranks)[at.reshape(pairs.shape)]
    return np.array(
        [np.quantile(two, part) for two, part in zip(found.T, place - low, strict=True)], values.dtype
    )


def _of_ranks(grid: np.ndarray, ranks: np.ndarray) -> np.ndarray:
    """The values of some ranks, counted from 0."""
    width = grid.dtype.itemsize * 8
    before, left = np.zeros(len(ranks), np.uint64), ranks.copy()
    for known in range(0, width, DIGIT):
        digit = min(DIGIT, width - known)
        some, which = np.unique(before, return_inverse=True)
        until = _counted(grid, known, some).cumsum(axis=1)
        here = until[which, : 1 << digit]
        at = (here <= left[:, None]).sum(axis=1)
        left -= np.where(at > 0, here[np.arange(len(at)), np.maximum(at - 1, 0)], 0)
        before = (before << np.uint64(digit)) | at.astype(np.uint64)
    return _values_of(before, grid.dtype)


def _counted(grid: np.ndarray, known: int, before: np.ndarray) -> np.ndarray:
    """How many values have each digit behind some that are known: one row for each of these."""
    width = grid.dtype.itemsize * 8
    sums = np.zeros((len(before), 1 << DIGIT), np.int64)
    for rows in blocks_of(grid):
        part = np.ascontiguousarray(grid[rows]).reshape(-1)
        counts = np.zeros((numba.get_num_threads(), *sums.shape), np.int64)
        keys = part.view(np.uint32 if width == 32 else np.uint64)
        count_digits(part, keys, width, known, before, counts)
        sums += counts.sum(axis=0)
        let_go(grid)
    return sums


def _values_of(keys: np.ndarray, dtype: np.dtype) -> np.ndarray:
    """Values by the whole numbers that have their order."""
    width = dtype.itemsize * 8
    sign = np.uint64(1 << (width - 1))
    every = np.uint64((1 << width) - 1)
    bits = np.where(keys & sign, keys ^ sign, keys ^ every)
    return bits.astype(np.uint32 if width == 32 else np.uint64).view(dtype)
