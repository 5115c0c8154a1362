"""Openness: how much of the sky, or of the ground below, a cell has around it (Yokoyama, Shirasawa & Pike
2002, PE&RS 68).
"""

from __future__ import annotations

import numpy as np

from moss_step.model.errors import AskedWronglyError
from moss_step.model.progress import Progress, silent
from moss_step.model.surface import Surface
from moss_step.model.units import ANGLE
from moss_step.science.relief.kernels.openness import openness_rows


def openness(dem: Surface, radius: float, positive: bool = True, progress: Progress | None = None) -> Surface:
    """Openness in degrees within ``radius`` metres: above 90 on domes (positive) or in hollows (negative), 90
    on a plane.

    Parameters
    ----------
    dem
        The ground: heights in its unit, of shape (rows, cols); NaN is no-data.
    radius
        Reach in metres on the ground.
    positive
        Whether it looks up, or down.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    Surface
        Degrees, float32.

    Raises
    ------
    AskedWronglyError
        For a radius below a cell.

    Source
    ------
    Yokoyama, Shirasawa & Pike 2002, Photogrammetric Engineering & Remote Sensing 68.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.relief.openness import openness
    >>> from moss_step.science.sample import ground
    >>> level = ground(np.zeros((9, 9)))
    >>> float(openness(level, radius=6.0).values[4, 4])  # degrees from the zenith
    90.0
    """
    cell = dem.frame.finest
    if radius < cell:
        raise AskedWronglyError(
            f"A radius of {radius:g} m is less than a cell ({cell:.4g} m).", "Use a larger one."
        )
    out, (level, _) = np.empty(dem.frame.shape, np.float32), dem.levelled
    for first, last in (progress or silent()).blocks(dem.frame.rows, 64, "Looking around each cell"):
        openness_rows(
            level.values, dem.frame.row_widths, dem.frame.row_heights, dem.metres_per_height, radius,
            1.0 if positive else -1.0, first, last, out,
        )  # fmt: skip
    return Surface(out, dem.frame, ANGLE, "openness")
