"""Laying shapes on the cells of a grid."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
import shapely
from rasterio.features import rasterize

from moss_step.model.errors import MossError
from moss_step.model.frame import Frame
from moss_step.model.shapes import Shapes

_SHAPES = 1024
"""Shapes that are laid at a time."""


def cells_inside(frame: Frame, areas: Shapes) -> np.ndarray:
    """Which cells have their centre inside areas.

    Parameters
    ----------
    frame
        Where the cells lie.
    areas
        Areas in the same reference system.

    Returns
    -------
    np.ndarray
        Yes or no (rows, cols).

    Raises
    ------
    MossError
        When they are no areas.

    Examples
    --------
    >>> from moss_step.science.laying import cells_inside
    >>> from moss_step.science.sample import box, tilted
    >>> int(cells_inside(tilted().frame, box(0, 0, 4, 4)).sum())
    4
    """
    if areas.kind != "areas":
        raise MossError(f"These shapes are {areas.kind}, and an outline is made of areas.", "Choose areas.")
    return laid(areas.geometry, 1, frame).astype(bool)


def laid(
    geometry: np.ndarray | Sequence[Any],
    values: np.ndarray | Sequence[float] | float,
    frame: Frame,
    fill: float = 0,
    dtype: str = "uint8",
    touched: bool = False,
) -> np.ndarray:
    """Lay shapes on cells: each cell has the value of the last shape that holds its centre, or that a line or
    point meets. In a part of a frame it is the same as in the whole.

    Parameters
    ----------
    geometry
        Shapes in the system of the frame; those that are empty are left out.
    values
        Value of each, or one for all.
    frame
        Rows, columns, cell size and reference system of the grid.
    fill
        Value of all other cells.
    dtype
        What the values are.
    touched
        Whether every cell counts that a shape touches.

    Returns
    -------
    np.ndarray
        Values of shape (rows, cols).

    Examples
    --------
    >>> from moss_step.science.laying import laid
    >>> from moss_step.science.sample import box, tilted
    >>> laid(box(0, 0, 4, 8).geometry, 7, tilted().frame)[0].tolist()
    [7, 7, 0, 0, 0]
    """
    shapes = np.asarray(geometry, object)
    there = np.flatnonzero(~shapely.is_empty(shapes))
    given, result = np.broadcast_to(np.asarray(values), shapes.shape), np.full(frame.shape, fill, dtype)
    for first in range(0, len(there), _SHAPES):
        some = there[first : first + _SHAPES]
        # Cells of the whole frame: a part would round places on the middle of a cell otherwise.
        placed = shapely.transform(shapes[some], frame.in_cells)
        rasterize(zip(placed, given[some].tolist(), strict=True), out=result, all_touched=touched)
    return result
