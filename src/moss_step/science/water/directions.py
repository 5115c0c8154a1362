"""Which way water leaves each cell: to a neighbour, or over a facet; as bearings on the ground."""

from __future__ import annotations

from typing import Literal

import numpy as np

from moss_step.model.progress import Progress, silent
from moss_step.science.water.accumulation import shared_out
from moss_step.science.water.drainage import Drainage
from moss_step.science.water.kernels.neighbours import NONE, OUT
from moss_step.science.water.neighbours import bearings


def flow_bearings(
    drainage: Drainage, method: Literal["d8", "dinf"] = "d8", progress: Progress | None = None
) -> np.ndarray:
    """Bearing on the ground that water leaves each cell in, degrees clockwise from the grid's north
    (float32).

    -1 where it leaves the ground, NaN where there is none.

    Parameters
    ----------
    drainage
        The ground prepared for water, by ``drainage.prepare``.
    method
        Which of the published methods, see above.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    np.ndarray
        Degrees, float32 of shape (rows, cols).

    Examples
    --------
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.water.directions import flow_bearings
    >>> from moss_step.science.water.drainage import prepare
    >>> float(flow_bearings(prepare(tilted()))[1, 2])
    270.0
    """
    by_row, progress = bearings(drainage.frame), progress or silent()
    share = facet_directions(drainage, progress.part(0.0, 0.6)) if method == "dinf" else None
    out = np.empty(drainage.frame.shape, np.float32)
    for first, last in progress.part(0.6, 1.0).blocks(len(out), 256, "Working out bearings"):
        ways, rows = drainage.ways[first:last], by_row[first:last]
        facets = None if share is None else facet_bearings(share[first:last], rows)
        out[first:last] = bearings_of(ways, rows, facets)
    return out


def bearings_of(ways: np.ndarray, by_row: np.ndarray, facets: np.ndarray | None = None) -> np.ndarray:
    """Bearings of ways, -1 where water leaves the ground, NaN where there is none.

    Parameters
    ----------
    ways
        Direction of each cell as ``neighbours`` numbers them, uint8 of shape (rows, cols).
    by_row
        Bearings of the neighbours by row, (rows, 8), as ``neighbours.bearings`` gives them.
    facets
        Bearings over facets, taken in place of those of the neighbours, degrees of shape (rows, cols).

    Returns
    -------
    np.ndarray
        Degrees, float32 of shape (rows, cols).

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.water.directions import bearings_of
    >>> from moss_step.science.water.neighbours import bearings
    >>> by_row = bearings(tilted().frame)[:1]
    >>> bearings_of(np.array([[0, 4, 8, 255]], np.uint8), by_row).tolist()
    [[90.0, 270.0, -1.0, nan]]
    """
    plain = by_row[np.arange(len(by_row))[:, None], np.minimum(ways, 7)] if facets is None else facets
    result = np.where(ways == OUT, -1.0, plain % 360.0).astype(np.float32)
    result[result == np.float32(360.0)] = 0.0
    result[ways == NONE] = np.nan
    return result


def facet_bearings(share: np.ndarray, by_row: np.ndarray) -> np.ndarray:
    """Turn directions over facets into bearings: the share of the angle between the two receivers, on the
    ground.

    Parameters
    ----------
    share
        Eighths of a turn from east, as ``facet_directions`` gives them, of shape (rows, cols).
    by_row
        Bearings of the neighbours by row, (rows, 8), as ``neighbours.bearings`` gives them.

    Returns
    -------
    np.ndarray
        Degrees clockwise from the grid's north, which may be above 360, of shape (rows, cols).

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.water.directions import facet_bearings
    >>> from moss_step.science.water.neighbours import bearings
    >>> facet_bearings(np.array([[4.0, 4.5]], np.float32), bearings(tilted().frame)[:1]).tolist()
    [[270.0, 292.5]]
    """
    first = np.nan_to_num(np.maximum(share, 0.0)).astype(np.int64) % 8
    rows = np.arange(len(by_row))[:, None]
    start, end = by_row[rows, first], by_row[rows, (first + 1) % 8]
    return np.asarray(start + (end - start) % 360.0 * (share - np.floor(share)))


def facet_directions(drainage: Drainage, progress: Progress | None = None) -> np.ndarray:
    """Direction over the steepest facet in eighths of a turn from east, clockwise; -1 out of the ground, NaN
    none.

    Parameters
    ----------
    drainage
        The ground prepared for water, by ``drainage.prepare``.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    np.ndarray
        Eighths of a turn, float32 of shape (rows, cols).

    Examples
    --------
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.water.directions import facet_directions
    >>> from moss_step.science.water.drainage import prepare
    >>> facet_directions(prepare(tilted()))[1].tolist()  # out of the ground, then west
    [-1.0, 4.0, 4.0, 4.0, 4.0]
    """
    return shared_out(drainage.drained(), "dinf", progress=progress).facets
