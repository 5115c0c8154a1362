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
    """
    return _measured(dem, RILEY if method == "riley" else MEAN, "ruggedness", progress)


def roughness(dem: Surface, progress: Progress | None = None) -> Surface:
    """Highest less lowest of a cell and its neighbours, in the unit of the heights (Wilson et al. 2007)."""
    return _measured(dem, RANGE, "roughness", progress)
