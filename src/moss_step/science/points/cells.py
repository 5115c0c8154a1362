"""Points by the cells that they lie in: counts, sums and extremes."""

from __future__ import annotations

import numpy as np

from moss_step.model.cloud import POINTS_A_CELL, Cloud
from moss_step.model.frame import Frame
from moss_step.science.points.kernels.cells import (
    add_cells,
    add_squares,
    cell_numbers,
    count_cells,
    extreme_cells,
)


def cells_of(cloud: Cloud, frame: Frame) -> np.ndarray:
    """Number of the cell of a frame that each point lies in, row by row.

    Parameters
    ----------
    cloud
        n points.
    frame
        Where the cells lie.

    Returns
    -------
    np.ndarray
        Numbers (int64, n); -1 outside. A point on the right or lower edge of the frame is in the last cell.

    Examples
    --------
    >>> from moss_step.model.frame import Frame
    >>> from moss_step.science.points.cells import cells_of
    >>> from moss_step.science.sample import scattered
    >>> cells_of(scattered(2), Frame(2, 2, 0.0, 2.0, 1.0, 1.0)).tolist()
    [2, 3, 0, 1]
    """
    numbers = np.empty(len(cloud), np.int64)
    x, y = (np.ascontiguousarray(v, np.float64) for v in (cloud.x, cloud.y))
    cell_numbers(x, y, frame.x0, frame.y0, frame.dx, frame.dy, frame.rows, frame.cols, numbers)
    return numbers


def counts(numbers: np.ndarray, frame: Frame) -> np.ndarray:
    """Points in each cell.

    Parameters
    ----------
    numbers
        Cells of the points, as ``cells_of`` gives them.
    frame
        Where the cells lie.

    Returns
    -------
    np.ndarray
        Counts (int64) of shape (rows, cols).

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.model.frame import Frame
    >>> from moss_step.science.points.cells import counts
    >>> counts(np.array([0, 0, 1, -1]), Frame(1, 2, 0.0, 1.0, 1.0, 1.0)).tolist()
    [[2, 1]]
    """
    count = np.zeros(frame.rows * frame.cols, np.int64)
    count_cells(numbers, count)
    return count.reshape(frame.shape)


def means(numbers: np.ndarray, values: np.ndarray, frame: Frame) -> np.ndarray:
    """Mean of the values in each cell.

    Parameters
    ----------
    numbers
        Cells of the points, as ``cells_of`` gives them.
    values
        A value of each point; NaN counts for nothing.
    frame
        Where the cells lie.

    Returns
    -------
    np.ndarray
        float64 of shape (rows, cols); NaN for cells without a value.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.model.frame import Frame
    >>> from moss_step.science.points.cells import means
    >>> means(np.array([0, 0, 1]), np.array([1.0, 3.0, 5.0]), Frame(1, 2, 0.0, 1.0, 1.0, 1.0)).tolist()
    [[2.0, 5.0]]
    """
    count, total = _sums(numbers, values, frame)
    with np.errstate(invalid="ignore"):
        return np.where(count > 0, total / np.maximum(count, 1), np.nan).reshape(frame.shape)


def spreads(numbers: np.ndarray, values: np.ndarray, frame: Frame) -> np.ndarray:
    """Standard deviation of the values in each cell, of its points as a whole.

    Parameters
    ----------
    numbers
        Cells of the points, as ``cells_of`` gives them.
    values
        A value of each point; NaN counts for nothing.
    frame
        Where the cells lie.

    Returns
    -------
    np.ndarray
        float64 of shape (rows, cols); NaN for cells without a value.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.model.frame import Frame
    >>> from moss_step.science.points.cells import spreads
    >>> spreads(np.array([0, 0, 1]), np.array([1.0, 3.0, 5.0]), Frame(1, 2, 0.0, 1.0, 1.0, 1.0)).tolist()
    [[1.0, 0.0]]
    """
    count, _ = _sums(numbers, values, frame)
    mean = np.nan_to_num(means(numbers, values, frame).reshape(-1))
    squares = np.zeros(mean.size)
    add_squares(numbers, np.ascontiguousarray(values, np.float64), mean, squares)
    return np.where(count > 0, np.sqrt(squares / np.maximum(count, 1)), np.nan).reshape(frame.shape)


def extremes(numbers: np.ndarray, values: np.ndarray, frame: Frame, highest: bool) -> np.ndarray:
    """Number of the point with the highest or lowest value of each cell.

    Parameters
    ----------
    numbers
        Cells of the points, as ``cells_of`` gives them.
    values
        A value of each point; NaN counts for nothing.
    frame
        Where the cells lie.
    highest
        Whether the highest is looked for.

    Returns
    -------
    np.ndarray
        Numbers of points (int64) of shape (rows, cols); -1 for cells without one. Of equal ones the first.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.model.frame import Frame
    >>> from moss_step.science.points.cells import extremes
    >>> frame = Frame(1, 2, 0.0, 1.0, 1.0, 1.0)
    >>> extremes(np.array([0, 0, 1]), np.array([1.0, 3.0, 5.0]), frame, True).tolist()
    [[1, 2]]
    """
    best = np.full(frame.rows * frame.cols, -1, np.int64)
    extreme_cells(numbers, np.ascontiguousarray(values, np.float64), 1.0 if highest else -1.0, best)
    return best.reshape(frame.shape)


def taken(values: np.ndarray, points: np.ndarray) -> np.ndarray:
    """Values of the points that cells name.

    Parameters
    ----------
    values
        A value of each point.
    points
        Numbers of points, as ``extremes`` gives them.

    Returns
    -------
    np.ndarray
        float64 of the shape of ``points``; NaN for cells without one.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.points.cells import taken
    >>> taken(np.array([4.0, 6.0]), np.array([[1, -1]])).tolist()
    [[6.0, nan]]
    """
    result = np.full(points.shape, np.nan)
    held = points >= 0
    result[held] = values[points[held]]
    return result


def _sums(numbers: np.ndarray, values: np.ndarray, frame: Frame) -> tuple[np.ndarray, np.ndarray]:
    count, total = np.zeros(frame.rows * frame.cols, np.int64), np.zeros(frame.rows * frame.cols)
    add_cells(numbers, np.ascontiguousarray(values, np.float64), count, total)
    return count, total


def density(cloud: Cloud) -> float:
    """Points for each square metre of the ground that they cover: cells of a coarse frame that hold any.

    Empty corners and lakes count for nothing.

    Parameters
    ----------
    cloud
        Points.

    Returns
    -------
    float
        Points a square metre; NaN for a cloud in one place.

    Examples
    --------
    >>> from moss_step.science.points.cells import density
    >>> from moss_step.science.sample import scattered
    >>> 0.5 < density(scattered(40)) < 1.5
    True
    """
    frame = cloud.frame
    if frame is None:
        return float("nan")
    # Some forty points a cell: hardly one of the covered cells stays empty by chance.
    step = int(np.ceil((40.0 / POINTS_A_CELL) ** 0.5))
    coarse = Frame(
        -(-frame.rows // step), -(-frame.cols // step), frame.x0, frame.y0, frame.dx * step, frame.dy * step,
        frame.crs,
    )  # fmt: skip
    held = counts(cells_of(cloud, coarse), coarse) > 0
    area = float((held.sum(axis=1) * coarse.row_areas).sum())
    return len(cloud) / area if area > 0 else float("nan")
