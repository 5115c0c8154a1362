"""Following water: the path down from a cell, the longest path up, and all that drains to cells."""

from __future__ import annotations

from dataclasses import dataclass

import numba
import numpy as np

from moss_step.model.errors import MossError
from moss_step.model.frame import Frame
from moss_step.model.progress import Progress, silent
from moss_step.model.surface import Surface
from moss_step.science.water.drainage import Drainage, Spaced, Watered
from moss_step.science.water.kernels.neighbours import NONE, Course
from moss_step.science.water.kernels.trace import (
    branches,
    down_order_cells,
    lengths_down,
    lengths_up,
    mark_shares,
    mark_upstream,
)

_WORTH_SHARING = 100_000
"""Cells of a catchment that are worth the start of several threads."""


def mark_catchment(
    drainage: Drainage, seed: int, number: int, marks: np.ndarray
) -> tuple[int, int, int, int, int]:
    """The same as ``mark_upstream`` for one cell, by all threads at once: branches are shared out by the
    cells they have.

    Parameters
    ----------
    drainage
        The ground prepared for water, by ``drainage.prepare``.
    seed
        Number of the cell.
    number
        Mark that the cells get.
    marks
        Marks of cells or points.

    Returns
    -------
    tuple[int, int, int, int, int]
        How many cells, and their first and last rows and columns.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.water.drainage import prepare
    >>> from moss_step.science.water.trace import mark_catchment
    >>> marks = np.zeros((4, 5), np.int32)
    >>> mark_catchment(prepare(tilted()), 5, 1, marks)
    (5, 1, 1, 0, 4)
    >>> marks.tolist()[1]
    [1, 1, 1, 1, 1]
    """
    size, threads = int(drainage.cells.reshape(-1)[seed]), numba.get_num_threads()
    if size < _WORTH_SHARING or threads == 1:
        count, r0, r1, c0, c1 = mark_upstream(drainage.ways, np.array([seed]), number, marks)
        return int(count), int(r0), int(r1), int(c0), int(c1)
    result, sizes, stem = branches(drainage.ways, drainage.cells, seed, number, marks, size // (8 * threads))
    order, loads = np.argsort(-sizes), [0] * threads
    shares: list[list[int]] = [[] for _ in range(threads)]
    for k in order:
        t = loads.index(min(loads))
        loads[t] += int(sizes[k])
        shares[t].append(int(result[k]))
    starts = np.cumsum([0, *(len(s) for s in shares)])
    parts = np.vstack(
        [
            stem,
            mark_shares(
                drainage.ways, np.array([c for s in shares for c in s], np.int64), starts, number, marks
            ),
        ]
    )
    return (
        int(parts[:, 0].sum()),
        int(parts[:, 1].min()),
        int(parts[:, 2].max()),
        int(parts[:, 3].min()),
        int(parts[:, 4].max()),
    )


def down_order(drainage: Drainage, progress: Progress | None = None) -> np.ndarray:
    """All cells, each before the one it runs to (int32).

    Parameters
    ----------
    drainage
        The ground prepared for water, by ``drainage.prepare``.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    np.ndarray
        Numbers of cells, int32.

    Examples
    --------
    >>> from moss_step.science.sample import ground
    >>> from moss_step.science.water.drainage import prepare
    >>> from moss_step.science.water.trace import down_order
    >>> down_order(prepare(ground([[0, 1, 2]]))).tolist()  # from the top down
    [2, 1, 0]
    """
    from moss_step.science.water.kernels.accumulation import count_donors

    donors = np.empty(drainage.ways.shape, np.uint8)
    count_donors(drainage.ways, donors)
    with (progress or silent()).pulse(len(donors), doing="Ordering cells downstream") as pulse:
        order: np.ndarray = down_order_cells(drainage.ways, donors, pulse)
    return order


def flow_lengths(
    drainage: Drainage,
    upstream: bool = False,
    areas: np.ndarray | None = None,
    progress: Progress | None = None,
) -> np.ndarray:
    """Metres along the way from each cell to where its water leaves, or (``upstream``) of the longest way
    that reaches it.

    With numbered ``areas`` (int32, 0 for none) ways begin and end within the area of each cell; cells of none
    are NaN.

    Parameters
    ----------
    drainage
        The ground prepared for water, by ``drainage.prepare``.
    upstream
        Whether the longest way up counts, and not the way down.
    areas
        Areas in the reference system of the grid.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    np.ndarray
        Metres, float32 of shape (rows, cols).

    Examples
    --------
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.water.drainage import prepare
    >>> from moss_step.science.water.trace import flow_lengths
    >>> flow_lengths(prepare(tilted()))[1].tolist()
    [0.0, 2.0, 4.0, 6.0, 8.0]
    """
    out = np.zeros(drainage.ways.shape, np.float64)
    inside = np.empty((0, 0), np.int32) if areas is None else areas
    progress = progress or silent()
    course = Course(drainage.ways, drainage.metres, down_order(drainage, progress.part(0.0, 0.5)))
    with progress.pulse(course.order.size, 0.5, 1.0, "Measuring ways") as pulse:
        (lengths_up if upstream else lengths_down)(course, inside, out, pulse)
    out[drainage.ways == NONE] = np.nan
    if areas is not None:
        out[areas == 0] = np.nan
    return out


def cell_at(dem: Surface, x: float, y: float) -> int:
    """Number of the cell at a place.

    Parameters
    ----------
    dem
        The ground: heights in its unit, of shape (rows, cols); NaN is no-data.
    x
        Easting.
    y
        Northing.

    Returns
    -------
    int
        Number of the cell, row by row.

    Raises
    ------
    MossError
        When the place lies outside the ground or on no-data.

    Examples
    --------
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.water.trace import cell_at
    >>> cell_at(tilted(), 1.0, 1.0)
    15
    """
    result = dem.frame.cell_at(x, y)
    if result is None:
        raise MossError(f"{x:g}, {y:g} lies outside the ground.", "Choose a place on it.")
    row, col = result
    if np.isnan(dem.values[row, col]):
        raise MossError(f"{x:g}, {y:g} has no height.", "Choose a place that has data.")
    return row * dem.frame.cols + col


def snapped(drainage: Drainage, cell: int, distance: float) -> int:
    """The cell with the most upstream ground within a distance in metres of a cell; the cell itself for 0.

    Parameters
    ----------
    drainage
        The ground prepared for water, by ``drainage.prepare``.
    cell
        Side of a cell in the units of the target, or the number of a cell, as the type says.
    distance
        Metres.

    Returns
    -------
    int
        Number of the cell.

    Examples
    --------
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.water.drainage import prepare
    >>> from moss_step.science.water.trace import snapped
    >>> snapped(prepare(tilted()), 7, distance=4.0)
    5
    """
    near = Near.of(drainage.frame, cell, distance)
    return near.best(drainage.cells[near.rows, near.cols])


@dataclass(frozen=True, eq=False)
class Near:
    """Cells within a distance of one: the rows and columns that hold them, and which of these they are."""

    frame: Frame
    rows: slice
    cols: slice
    within: np.ndarray

    @classmethod
    def of(cls, frame: Frame, cell: int, distance: float) -> Near:
        """Those within so many metres of a cell, by its number row by row."""
        row, col = divmod(cell, frame.cols)
        width, height = float(frame.row_widths[row]), float(frame.row_heights[row])
        distance *= 1.0 + 1e-9
        up, aside = int(distance / height), int(distance / width)
        rows = np.arange(max(row - up, 0), min(row + up, frame.rows - 1) + 1)
        cols = np.arange(max(col - aside, 0), min(col + aside, frame.cols - 1) + 1)
        near = ((rows[:, None] - row) * height) ** 2 + ((cols - col) * width) ** 2 <= distance**2
        return cls(frame, slice(rows[0], rows[-1] + 1), slice(cols[0], cols[-1] + 1), near)

    def best(self, cells: np.ndarray) -> int:
        """The one with the most cells upstream; ``cells`` are those upstream in the rows and columns."""
        best = int(np.where(self.within, cells, -1).argmax())
        row, col = divmod(best, self.cols.stop - self.cols.start)
        return int(self.rows.start + row) * self.frame.cols + int(self.cols.start + col)


def path_metres(drainage: Spaced, cells: np.ndarray) -> np.ndarray:
    """Metres along a path of neighbouring cells, from its first cell.

    Parameters
    ----------
    drainage
        The ground prepared for water, by ``drainage.prepare``.
    cells
        Numbers of cells, row by row, or a count of them, as the type says.

    Returns
    -------
    np.ndarray
        Metres (n), 0 at first.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.water.drainage import prepare
    >>> from moss_step.science.water.trace import path_metres
    >>> path_metres(prepare(tilted()), np.array([2, 1, 0])).tolist()
    [0.0, 2.0, 4.0]
    """
    return np.concatenate([[0.0], np.cumsum(step_metres(drainage, cells))]) if len(cells) else np.zeros(0)


def lengths_of(drainage: Watered, paths: list[np.ndarray]) -> np.ndarray:
    """Metres of each of many paths of at least two neighbouring cells.

    Parameters
    ----------
    drainage
        The ground prepared for water, by ``drainage.prepare``.
    paths
        Cells of each path, in order.

    Returns
    -------
    np.ndarray
        Metres, one a path.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.water.drainage import prepare
    >>> from moss_step.science.water.trace import lengths_of
    >>> lengths_of(prepare(tilted()), [np.array([2, 1, 0])]).tolist()
    [4.0]
    """
    starts = np.cumsum([0, *(len(p) for p in paths[:-1])])
    steps = np.append(step_metres(drainage, np.concatenate(paths)), 0.0)
    steps[starts[1:] - 1] = 0.0  # from one path to the next is no step
    return np.asarray(np.add.reduceat(steps, starts))


def step_metres(drainage: Spaced, cells: np.ndarray) -> np.ndarray:
    """Metres from each cell to the next; for those that are no neighbours it means nothing.

    Parameters
    ----------
    drainage
        The ground prepared for water, by ``drainage.prepare``.
    cells
        Numbers of cells, row by row, or a count of them, as the type says.

    Returns
    -------
    np.ndarray
        Metres, one fewer than cells.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.water.drainage import prepare
    >>> from moss_step.science.water.trace import step_metres
    >>> step_metres(prepare(tilted()), np.array([2, 1, 0])).tolist()
    [2.0, 2.0]
    """
    rows, cols = np.divmod(cells, drainage.frame.cols)
    dr, dc = np.diff(rows), np.diff(cols)
    row = np.minimum(rows[1:], rows[:-1])
    east, diagonal, south = (drainage.metres[row, k].astype(np.float64) for k in range(3))
    return np.asarray(np.where(dr == 0, east, np.where(dc == 0, south, diagonal)))


def centres(drainage: Spaced, cells: np.ndarray) -> np.ndarray:
    """Coordinates of the centres of cells: (n, 2).

    Parameters
    ----------
    drainage
        The ground prepared for water, by ``drainage.prepare``.
    cells
        Numbers of cells, row by row, or a count of them, as the type says.

    Returns
    -------
    np.ndarray
        Coordinates (n, 2).

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.water.drainage import prepare
    >>> from moss_step.science.water.trace import centres
    >>> centres(prepare(tilted()), np.array([0, 1])).tolist()
    [[1.0, 7.0], [3.0, 7.0]]
    """
    return drainage.frame.centres(cells)
