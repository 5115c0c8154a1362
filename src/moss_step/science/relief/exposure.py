"""How far the ground faces a bearing: towards the north, a wind, or the afternoon sun."""

from __future__ import annotations

from typing import Literal

import numpy as np

from moss_step.model.progress import Progress, silent
from moss_step.model.surface import Surface
from moss_step.model.units import NONE
from moss_step.science.relief.gradient import aspect, slope

Weigh = Literal["facing", "slope"]
_ROWS = 256


def exposure(
    dem: Surface, bearing: float, weigh: Weigh = "facing", progress: Progress | None = None
) -> Surface:
    """Cosine of the angle between the way that a cell faces and a bearing: 1 towards it, -1 away from it, 0
    across it and on flat ground.

    ``bearing`` in degrees clockwise from grid north; 0 gives northness and 90 eastness (common practice).
    With ``slope`` it is multiplied by the sine of the slope: the part of the surface's normal that points
    along the bearing, so that gentle ground counts little. float32 of the frame's shape.

    Parameters
    ----------
    dem
        The ground: heights in its unit, of shape (rows, cols); NaN is no-data.
    bearing
        Degrees clockwise from grid north.
    weigh
        What counts beside the direction, or how cells are weighed.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    Surface
        From -1 to 1, float32.

    Raises
    ------
    MossError
        For grids of fewer than 2 x 2 cells.

    Source
    ------
    Common practice.

    Examples
    --------
    >>> from moss_step.science.relief.exposure import exposure
    >>> from moss_step.science.sample import tilted
    >>> round(float(exposure(tilted(), 270.0).values[1, 2]), 6)
    1.0
    """
    progress = progress or silent()
    facing = aspect(dem, progress=progress.part(0.0, 0.4)).values
    steep = slope(dem, progress=progress.part(0.4, 0.8)).values if weigh == "slope" else None
    result = np.empty(dem.frame.shape, np.float32)
    for first, last in progress.part(0.8, 1.0).blocks(dem.frame.rows, _ROWS, "Comparing bearings"):
        some = facing[first:last]
        part = np.where(some < 0, np.float32(0.0), np.cos(np.radians(some - np.float32(bearing))))
        result[first:last] = part if steep is None else part * np.sin(np.radians(steep[first:last]))
    return Surface(result, dem.frame, NONE, "exposure")
