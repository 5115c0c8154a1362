"""Cells without a value between cells with one: filled smoothly."""

from __future__ import annotations

import numpy as np

from moss_step.science.points.kernels.opening import smooth_gaps

_ROUNDS, _AGAIN = 30, 6
"""Rounds from a rough beginning, and from a near one."""


def filled(values: np.ndarray, near: np.ndarray | None = None) -> np.ndarray:
    """A grid without gaps: each gap takes the surface that is bent least between its rim.

    From coarse to fine (pull and push), then relaxed: the discrete Laplace equation, as good as solved for
    gaps of some hundred cells across. A grid without any value is given back as it is.

    Parameters
    ----------
    values
        Values of shape (rows, cols); NaN is a gap.
    near
        A grid of the same gaps filled for much the same values (rows, cols): it is begun from, and takes
        less time.

    Returns
    -------
    np.ndarray
        float64 of shape (rows, cols).

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.points.gaps import filled
    >>> filled(np.array([[1.0, np.nan, 3.0]])).round(3).tolist()
    [[1.0, 2.0, 3.0]]
    """
    known = np.isfinite(values)
    if known.all() or not known.any():
        return np.array(values, np.float64)
    result = np.where(known, values, np.nan).astype(np.float64)
    if near is not None:
        result[~known] = near[~known]
    elif min(values.shape) > 1 and values.size > 4:
        coarse = filled(_halved(result))
        rough = doubled(coarse, values.shape)
        result[~known] = rough[~known]
    else:
        result[~known] = np.nanmean(result)
    gaps = np.flatnonzero(~known)
    rows, cols = np.divmod(gaps, values.shape[1])
    light = (rows + cols) % 2 == 0
    boards = gaps[light], gaps[~light]
    for _ in range(_ROUNDS if near is None else _AGAIN):
        for board in boards:
            smooth_gaps(result, board)
    return result


def _halved(values: np.ndarray) -> np.ndarray:
    """Means of each two by two cells, of those with a value."""
    rows, cols = (-(-n // 2) for n in values.shape)
    padded = np.full((rows * 2, cols * 2), np.nan)
    padded[: values.shape[0], : values.shape[1]] = values
    blocks = padded.reshape(rows, 2, cols, 2)
    count = np.isfinite(blocks).sum(axis=(1, 3))
    total = np.nansum(blocks, axis=(1, 3))
    return np.where(count > 0, total / np.maximum(count, 1), np.nan)


def doubled(values: np.ndarray, shape: tuple[int, int]) -> np.ndarray:
    """A grid twice as fine, straight between the middles of the coarse cells.

    Parameters
    ----------
    values
        Values of shape (rows, cols).
    shape
        Rows and columns of the finer grid.

    Returns
    -------
    np.ndarray
        Values of that shape.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.points.gaps import doubled
    >>> doubled(np.array([[0.0, 4.0]]), (1, 4)).tolist()
    [[0.0, 1.0, 3.0, 4.0]]
    """
    result = values
    for axis, size in enumerate(shape):
        n = result.shape[axis]
        at = np.clip((np.arange(size) - 0.5) / 2.0, 0.0, n - 1.0)
        low = np.minimum(at.astype(int), max(n - 2, 0))
        share = (at - low).reshape((-1, 1) if axis == 0 else (1, -1))
        high = np.minimum(low + 1, n - 1)
        result = np.take(result, low, axis) * (1.0 - share) + np.take(result, high, axis) * share
    return result
