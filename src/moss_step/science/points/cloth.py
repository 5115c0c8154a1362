"""A cloth laid on the ground from below: cells that it does not touch hold things."""

from __future__ import annotations

import numpy as np

from moss_step.model.progress import Progress, silent
from moss_step.science.points.gaps import doubled
from moss_step.science.points.kernels.cloth import lay_on_slopes, settle

LOADS = (0.24, 0.06, 0.015)
"""How much a cloth of stiffness 1, 2 and 3 bends under its own weight, in metres for each square metre; each
further step of stiffness bends a quarter as much.
"""
_NEAR = 0.3
"""Metres of the floor from cell to cell, and of the cloth over it, within which it is laid down on slopes."""
_ROUNDS, _SMALLEST = 80, 8


def cloth_things(
    surface: np.ndarray, stiffness: int, cell: float, metre: float, progress: Progress | None = None
) -> np.ndarray:
    """Which cells a cloth does not touch that is laid on a surface of lowest points from below.

    Cloth simulation (Zhang et al. 2016): the surface is turned over, and particles that hang together fall on
    it. Where one meets the surface, it lies; the others are held by their neighbours, and span what stands
    on the ground. What is looked for is the cloth at rest, which does not depend on how it fell or on how
    the grid is turned: it is found from coarse to fine by projected relaxation (Cryer 1971). Then it is
    laid down on slopes that it hangs close over.

    Parameters
    ----------
    surface
        Lowest heights of the cells, without gaps (rows, cols).
    stiffness
        1 for steep ground, 2 for ground with relief, 3 for flat ground.
    cell
        Side of a cell, in units of heights.
    metre
        Units of heights in a metre.
    progress
        Told how far it is.

    Returns
    -------
    np.ndarray
        True for cells that hold things (rows, cols).

    Source
    ------
    Zhang et al. 2016, An easy-to-use airborne LiDAR data filtering method based on cloth simulation, Remote
    Sensing 8(6), 501; Cryer 1971, SIAM Journal on Control 9.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.points.cloth import cloth_things
    >>> level = np.zeros((20, 20))
    >>> level[8:12, 8:12] = 5.0
    >>> int(cloth_things(level, 3, 1.0, 1.0).sum())
    16
    """
    load = LOADS[-1] * 4.0 ** (len(LOADS) - stiffness) / metre
    floor = -np.asarray(surface, np.float64)
    cloth = _at_rest(floor, load, cell, progress or silent())
    lay_on_slopes(cloth, floor, _NEAR * metre, _NEAR * metre)
    return np.asarray(cloth - floor > _NEAR * metre)


def _at_rest(floor: np.ndarray, load: float, cell: float, progress: Progress) -> np.ndarray:
    """The cloth at rest on a floor: from a floor half as fine, then relaxed."""
    if min(floor.shape) > _SMALLEST:
        coarse = _at_rest(_highest_of_four(floor), load, 2.0 * cell, progress.part(0.0, 0.25))
        cloth = np.maximum(doubled(coarse, floor.shape), floor)
    else:
        cloth = np.full(floor.shape, floor.max())
    spare = np.empty(floor.shape)
    for k in range(_ROUNDS):
        if k % 10 == 0:
            progress.at(0.25 + 0.75 * k / _ROUNDS, "Laying the cloth")
        settle(cloth, spare, floor, load * cell * cell / 4.0)
        cloth, spare = spare, cloth
    return np.asarray(cloth)


def _highest_of_four(values: np.ndarray) -> np.ndarray:
    """Highest of each two by two cells; an odd last row or column stands alone."""
    rows, cols = (-(-n // 2) for n in values.shape)
    wide = np.pad(values, ((0, rows * 2 - values.shape[0]), (0, cols * 2 - values.shape[1])), mode="edge")
    return np.asarray(wide.reshape(rows, 2, cols, 2).max(axis=(1, 3)))
