"""The eight neighbours of a cell, the distances to them, and what a direction means."""

from __future__ import annotations

import numpy as np

from moss_step.model.frame import Frame


def distances(frame: Frame) -> np.ndarray:
    """Metres to the east, diagonal and south neighbour, by row: float32 of shape (rows, 3).

    Parameters
    ----------
    frame
        Rows, columns, cell size and reference system of the grid.

    Returns
    -------
    np.ndarray
        Metres, float32 of shape (rows, 3).

    Examples
    --------
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.water.neighbours import distances
    >>> distances(tilted().frame)[0].astype(float).round(3).tolist()
    [2.0, 2.828, 2.0]
    """
    east, south = frame.row_widths, frame.row_heights
    return np.stack([east, np.hypot(east, south), south], axis=1).astype(np.float32)


def bearings(frame: Frame) -> np.ndarray:
    """Bearing on the ground of each of the eight directions, degrees clockwise from the grid's north, by row:
    shape (rows, 8).

    Parameters
    ----------
    frame
        Rows, columns, cell size and reference system of the grid.

    Returns
    -------
    np.ndarray
        Degrees of shape (rows, 8).

    Examples
    --------
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.water.neighbours import bearings
    >>> bearings(tilted().frame)[0].tolist()
    [90.0, 135.0, 180.0, 225.0, 270.0, 315.0, 0.0, 45.0]
    """
    diagonal = np.degrees(np.arctan2(frame.row_widths, frame.row_heights))  # of the north-east neighbour
    straight = np.zeros_like(diagonal)
    quarters = (
        straight + 90.0,
        180.0 - diagonal,
        straight + 180.0,
        180.0 + diagonal,
        straight + 270.0,
        360.0 - diagonal,
        straight,
        diagonal,
    )
    return np.stack(quarters, axis=1)
