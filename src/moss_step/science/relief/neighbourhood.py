"""Measures of a cell against its eight neighbours: ruggedness and roughness."""

from __future__ import annotations

from typing import Literal

import numpy as np

from moss_step.model.progress import Progress, silent
from moss_step.model.surface import Surface
from moss_step.science.relief.kernels.neighbourhood import MEAN, RANGE, RILEY, neighbour_rows

Ruggedness = Literal["riley", "mean_absolute"]
BLOCK_ROWS = 512
RILEY_BOUNDS = (80.0, 116.0, 161.0, 239.0, 497.0, 958.0)
"""Bounds in metres between the seven ruggedness classes of Riley, DeGloria & Elliot 1999, Intermountain J.
Sci. 5.
"""


def _measured(dem: Surface, measure: int, quantity: str, progress: Progress | None) -> Surface:
    _ = dem.metres_per_height  # refuses what holds no heights
    out, (level, _) = np.empty(dem.frame.shape, np.float32), dem.levelled
    for first, last in (progress or silent()).blocks(dem.frame.rows, BLOCK_ROWS, f"Working out {quantity}"):
        neighbour_rows(level.values, first, last, measure, out)
    return Surface(out, dem.frame, dem.unit, quantity)


def ruggedness(dem: Surface, method: Ruggedness = "riley", progress: Progress | None = None) -> Surface:
    """Ruggedness in the unit of the heights: root of the summed squared differences to eight neighbours
    (Riley et al. 1999), or the mean of the absolute differences. At edges the neighbours that exist count,
    scaled up to eight.

    Parameters
    ----------
    dem
        The ground: heights in its unit, of shape (rows, cols); NaN is no-data.
    method
        Which of the published methods, see above.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    Surface
        In the unit of the heights, float32.

    Source
    ------
    Riley, DeGloria & Elliot 1999, Intermountain Journal of Sciences 5.

    Examples
    --------
    >>> from moss_step.science.relief.neighbourhood import ruggedness
    >>> from moss_step.science.sample import tilted
    >>> float(ruggedness(tilted(), "mean_absolute").values[1, 2])
    1.5
    """
    return _measured(dem, RILEY if method == "riley" else MEAN, "ruggedness", progress)


def roughness(dem: Surface, progress: Progress | None = None) -> Surface:
    """Highest less lowest of a cell and its neighbours, in the unit of the heights (Wilson et al. 2007).

    Parameters
    ----------
    dem
        The ground: heights in its unit, of shape (rows, cols); NaN is no-data.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    Surface
        In the unit of the heights, float32.

    Source
    ------
    Wilson et al. 2007, Marine Geodesy 30.

    Examples
    --------
    >>> from moss_step.science.relief.neighbourhood import roughness
    >>> from moss_step.science.sample import tilted
    >>> float(roughness(tilted()).values[1, 2])
    4.0
    """
    return _measured(dem, RANGE, "roughness", progress)
