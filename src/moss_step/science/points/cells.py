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
    extreme_values,
    order_by_cell,
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
    count = np.zeros(frame.shape, np.int64)
    count_up(numbers, count)
    return count


def counts_in(cloud: Cloud, frame: Frame) -> np.ndarray:
    """Points in each cell, some points at a time: of clouds that are larger than memory, too.

    Parameters
    ----------
    cloud
        n points.
    frame
        Where the cells lie.

    Returns
    -------
    np.ndarray
        Counts (int64) of shape (rows, cols).

    Examples
    --------
    >>> from moss_step.model.frame import Frame
    >>> from moss_step.science.points.cells import counts_in
    >>> from moss_step.science.sample import scattered
    >>> counts_in(scattered(2), Frame(1, 1, 0.0, 2.0, 2.0, 2.0)).tolist()
    [[4]]
    """
    total = np.zeros(frame.shape, np.int64)
    for chunk in cloud.chunks():
        count_up(cells_of(chunk, frame), total)
    return total


def count_up(numbers: np.ndarray, count: np.ndarray) -> None:
    """Add points to the counts of cells, so that a cloud can be gone through part by part.

    Parameters
    ----------
    numbers
        Cells of the points, as ``cells_of`` gives them.
    count
        Counts so far (rows, cols), int64; changed in place.

    Returns
    -------
    None
        Counts are changed where they are.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.points.cells import count_up
    >>> count = np.array([[1, 0]])
    >>> count_up(np.array([0, 0, -1]), count)
    >>> count.tolist()
    [[3, 0]]
    """
    count_cells(numbers, count.reshape(-1))


def add_extremes(numbers: np.ndarray, values: np.ndarray, highest: bool, best: np.ndarray) -> None:
    """Raise or lower the extremes of cells to the values of more points.

    Parameters
    ----------
    numbers
        Cells of the points, as ``cells_of`` gives them.
    values
        A value of each point; NaN counts for nothing.
    highest
        Whether the highest is looked for.
    best
        Extremes so far (rows, cols), float64, NaN where there is none; changed in place.

    Returns
    -------
    None
        Extremes are changed where they are.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.points.cells import add_extremes
    >>> best = np.array([[2.0, np.nan]])
    >>> add_extremes(np.array([0, 1, 1]), np.array([1.0, 3.0, 5.0]), True, best)
    >>> best.tolist()
    [[2.0, 5.0]]
    """
    extreme_values(
        numbers, np.ascontiguousarray(values, np.float64), 1.0 if highest else -1.0, best.reshape(-1)
    )


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


def by_cell(numbers: np.ndarray, frame: Frame) -> tuple[np.ndarray, np.ndarray]:
    """The points cell after cell.

    Parameters
    ----------
    numbers
        Cells of the points, as ``cells_of`` gives them.
    frame
        Where the cells lie.

    Returns
    -------
    tuple[np.ndarray, np.ndarray]
        Place of the first point of each cell, and of the end (int64, cells + 1); numbers of the points (int32
        where these suffice).

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.model.frame import Frame
    >>> from moss_step.science.points.cells import by_cell
    >>> starts, order = by_cell(np.array([1, 0, 1, -1]), Frame(1, 2, 0.0, 1.0, 1.0, 1.0))
    >>> starts.tolist(), order.tolist()
    ([0, 1, 3], [1, 0, 2])
    """
    starts = np.zeros(frame.rows * frame.cols + 1, np.int64)
    held = int(np.count_nonzero(numbers >= 0))
    order = np.empty(held, np.int32 if len(numbers) < 2**31 else np.int64)
    order_by_cell(numbers, starts, order)
    return starts, order


def add_up(numbers: np.ndarray, values: np.ndarray, count: np.ndarray, total: np.ndarray) -> None:
    """Add values to the counts and sums of cells, so that a cloud can be gone through part by part.

    Parameters
    ----------
    numbers
        Cells of the points, as ``cells_of`` gives them.
    values
        A value of each point; NaN counts for nothing.
    count
        Counts so far (rows, cols), int64; changed in place.
    total
        Sums so far (rows, cols), float64; changed in place.

    Returns
    -------
    None
        Counts and sums are changed where they are.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.points.cells import add_up
    >>> count, total = np.zeros((1, 2), np.int64), np.zeros((1, 2))
    >>> add_up(np.array([0, 0]), np.array([1.0, 3.0]), count, total)
    >>> total.tolist()
    [[4.0, 0.0]]
    """
    add_cells(numbers, np.ascontiguousarray(values, np.float64), count.reshape(-1), total.reshape(-1))


def add_squares_up(numbers: np.ndarray, values: np.ndarray, mean: np.ndarray, squares: np.ndarray) -> None:
    """Add squared deviations from the means of cells.

    Parameters
    ----------
    numbers
        Cells of the points, as ``cells_of`` gives them.
    values
        A value of each point; NaN counts for nothing.
    mean
        Means (rows, cols), float64; only those of cells with points are looked at.
    squares
        Sums so far (rows, cols), float64; changed in place.

    Returns
    -------
    None
        Sums are changed where they are.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.points.cells import add_squares_up
    >>> squares = np.zeros((1, 1))
    >>> add_squares_up(np.array([0, 0]), np.array([1.0, 3.0]), np.full((1, 1), 2.0), squares)
    >>> squares.tolist()
    [[2.0]]
    """
    add_squares(numbers, np.ascontiguousarray(values, np.float64), mean.reshape(-1), squares.reshape(-1))


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
    held = counts_in(cloud, coarse) > 0
    area = float((held.sum(axis=1) * coarse.row_areas).sum())
    return len(cloud) / area if area > 0 else float("nan")
