"""Frames for what has none of its own: square cells of a round side around a box."""

from __future__ import annotations

import math

from moss_step.model.frame import Box, Frame
from moss_step.model.mapped import check_room


def round_side(side: float) -> float:
    """A round number near a side of cells: 1, 2 or 5 times a power of ten, a tenth less at the most.

    Parameters
    ----------
    side
        What would be right.

    Returns
    -------
    float
        The round number.

    Examples
    --------
    >>> from moss_step.science.framing import round_side
    >>> round_side(0.33), round_side(1.05)
    (0.5, 1.0)
    """
    power = 10.0 ** math.floor(math.log10(side))
    return float(next(k * power for k in (1.0, 2.0, 5.0, 10.0) if k * power >= side * 0.9))


def frame_around(box: Box, cell: float, crs: str | None) -> Frame:
    """A frame of square cells around a box, whose corners are multiples of the cell.

    Parameters
    ----------
    box
        xmin, ymin, xmax, ymax in units of the reference system.
    cell
        Side of the cells, in these units.
    crs
        The reference system.

    Returns
    -------
    Frame
        Where the cells lie.

    Raises
    ------
    MossError
        For more cells than memory, or the disk, holds.

    Examples
    --------
    >>> from moss_step.science.framing import frame_around
    >>> frame_around((0.5, 0.0, 3.5, 4.0), 2.0, None).shape
    (2, 2)
    """
    xmin, ymin, xmax, ymax = box
    west, north = math.floor(xmin / cell), math.ceil(ymax / cell)
    cols = max(math.ceil(xmax / cell - 1e-9) - west, 1)
    rows = max(north - math.floor(ymin / cell + 1e-9), 1)
    check_room(rows * cols, f"A grid with cells of {cell:g}", "Take larger cells.")
    return Frame(rows, cols, west * cell, north * cell, cell, cell, crs)
