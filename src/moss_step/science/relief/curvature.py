"""Curvature of a ground: plan, profile, tangential and mean, convex positive.

Second derivatives of the quadratic fitted to 3 x 3 cells by least squares (Evans 1980, Zeitschrift fuer
Geomorphologie Suppl. 36); curvatures of the surface z(x, y) by the usual formulas of differential geometry,
signed so that a dome is positive. Cells without eight neighbours have none.
"""

from __future__ import annotations

from typing import Literal

import numpy as np

from moss_step.model.errors import MossError
from moss_step.model.progress import Progress, silent
from moss_step.model.surface import Surface
from moss_step.model.units import PER_METRE
from moss_step.science.relief.kernels.curvature import curvature_rows

Curvature = Literal["profile", "plan", "tangential", "mean"]
BLOCK_ROWS = 512
_KINDS: dict[Curvature, int] = {"profile": 0, "plan": 1, "tangential": 2, "mean": 3}


def curvature(dem: Surface, kind: Curvature = "profile", progress: Progress | None = None) -> Surface:
    """Curvature in 1/m, convex positive: along the slope (profile), along the contour (plan), across the
    slope in the normal plane (tangential), or the mean of all directions.

    Cells that are level have no slope direction and hold 0, except for the mean.

    Parameters
    ----------
    dem
        The ground: heights in its unit, of shape (rows, cols); NaN is no-data.
    kind
        Which curvature.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    Surface
        Curvature in 1/m, float32.

    Raises
    ------
    MossError
        Below 3 x 3 cells.

    Source
    ------
    Evans 1980, Zeitschrift für Geomorphologie, Supplement 36; Zevenbergen & Thorne 1987, Earth Surface
    Processes and Landforms 12.

    Examples
    --------
    >>> from moss_step.science.relief.curvature import curvature
    >>> from moss_step.science.sample import tilted
    >>> float(abs(curvature(tilted(), "mean").values[1, 2])) < 1e-6  # a plane does not bend
    True
    """
    rows, cols = dem.frame.shape
    if rows < 3 or cols < 3:
        raise MossError(
            f"Curvature needs at least 3 x 3 cells; this grid has {rows} x {cols}.", "Open a larger grid."
        )
    out = np.empty((rows, cols), np.float32)
    level, _ = dem.levelled
    scale = np.float32(dem.metres_per_height)
    for first, last in (progress or silent()).blocks(rows, BLOCK_ROWS, "Working out curvature"):
        curvature_rows(
            level.values, dem.frame.row_widths, dem.frame.row_heights, scale, first, last, _KINDS[kind], out
        )
    return Surface(out, dem.frame, PER_METRE, "curvature")
