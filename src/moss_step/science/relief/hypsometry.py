"""The hypsometric curve: how much of the ground lies above each height (Strahler 1952, GSA Bulletin 63)."""

from __future__ import annotations

import numpy as np

from moss_step.model.chart import Chart
from moss_step.model.errors import MossError
from moss_step.model.mapped import let_go
from moss_step.model.progress import Progress, silent
from moss_step.model.surface import Surface
from moss_step.model.units import SHARE, SQUARE_METRE

_ROWS = 256


def hypsometry(dem: Surface, steps: int = 100, progress: Progress | None = None) -> tuple[Chart, float]:
    """Area above each of ``steps + 1`` heights, and the hypsometric integral.

    The integral is (mean - lowest) / (highest - lowest), which equals the area under the curve (Pike & Wilson
    1971, GSA Bulletin 82); cells are weighed by their ground area.

    Parameters
    ----------
    dem
        The ground: heights in its unit, of shape (rows, cols); NaN is no-data.
    steps
        Number of steps.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    tuple[Chart, float]
        Heights with area (m²) above, and the integral.

    Raises
    ------
    MossError
        For a ground without relief.

    Source
    ------
    Pike & Wilson 1971, GSA Bulletin 82.

    Examples
    --------
    >>> from moss_step.science.relief.hypsometry import hypsometry
    >>> from moss_step.science.sample import tilted
    >>> curve, integral = hypsometry(tilted(), steps=4)
    >>> integral
    0.5
    """
    if dem.range is None or dem.range[0] == dem.range[1]:
        raise MossError(
            "The ground has no relief, so it has no hypsometric curve.", "Choose another ground or area."
        )
    _ = dem.metres_per_height
    low, high = dem.range
    levels = np.linspace(low, high, steps + 1)
    binned, total, moment = np.zeros(steps), 0.0, 0.0
    for first, last in (progress or silent()).blocks(dem.frame.rows, _ROWS, "Adding up heights"):
        valid = ~np.isnan(dem.values[first:last])
        heights = dem.values[first:last][valid].astype(np.float64)
        areas = np.broadcast_to(dem.frame.row_areas[first:last, None], valid.shape)[valid]
        binned += np.histogram(heights, levels, weights=areas)[0]
        total, moment = total + float(areas.sum()), moment + float(((heights - low) * areas).sum())
        let_go(dem.values)
    above = np.concatenate([np.cumsum(binned[::-1])[::-1], [0.0]])
    integral = moment / total / (high - low)
    curve = Chart(
        {"height": levels, "area_above_m2": above, "area_share": above / total,
         "height_share": (levels - low) / (high - low)},
        {"height": dem.unit, "area_above_m2": SQUARE_METRE, "area_share": SHARE, "height_share": SHARE},
        "area_share", ("height_share",),
    )  # fmt: skip
    return curve, integral
