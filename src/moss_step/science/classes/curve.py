"""How much ground passes a threshold, as the threshold moves."""

from __future__ import annotations

import numpy as np

from moss_step.model.chart import Chart
from moss_step.model.errors import MossError
from moss_step.model.mapped import let_go
from moss_step.model.progress import Progress, silent
from moss_step.model.surface import Surface
from moss_step.model.units import CUBIC_METRE, METRE, SHARE, SQUARE_METRE, convert

_ROWS = 256


def threshold_curve(
    surface: Surface, steps: int = 100, side: str = "above", progress: Progress | None = None
) -> Chart:
    """Area and share of the ground at or beyond each of ``steps + 1`` thresholds; of lengths the volume
    beyond, too.

    The volume is that between the surface and a level at the threshold, within the cells that pass.

    Parameters
    ----------
    surface
        Values of shape (rows, cols); NaN is no-data.
    steps
        Number of steps.
    side
        ``above`` or ``below``: which side of the threshold counts.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    Chart
        Thresholds in the surface's unit, with square metres, shares, and cubic metres of lengths.

    Raises
    ------
    MossError
        For a surface of one value, or of bearings.

    Examples
    --------
    >>> from moss_step.science.classes.curve import threshold_curve
    >>> from moss_step.science.sample import tilted
    >>> curve = threshold_curve(tilted(), steps=4)
    >>> curve.columns["threshold"].tolist(), curve.columns["area_m2"].tolist()
    ([0.0, 2.0, 4.0, 6.0, 8.0], [80.0, 64.0, 48.0, 32.0, 16.0])
    """
    if surface.cyclic:
        raise MossError("Bearings have no threshold.", "Ask for ground that faces a bearing instead.")
    if surface.range is None or surface.range[0] == surface.range[1]:
        raise MossError("The surface has one value, and no curve.", "Choose another surface.")
    low, high = surface.range
    levels = np.linspace(low, high, steps + 1)
    order = levels if side == "above" else -levels[::-1]
    area, moment = np.zeros(steps + 2), np.zeros(steps + 2)
    for first, last in (progress or silent()).blocks(surface.frame.rows, _ROWS, "Adding up"):
        valid = ~np.isnan(surface.values[first:last])
        values = surface.values[first:last][valid].astype(np.float64)
        areas = np.broadcast_to(surface.frame.row_areas[first:last, None], valid.shape)[valid]
        values = values if side == "above" else -values
        place = np.searchsorted(order, values, side="right")  # how many levels a value reaches
        area += np.bincount(place, areas, minlength=steps + 2)
        moment += np.bincount(place, areas * (values - order[0]), minlength=steps + 2)
        let_go(surface.values)
    beyond = np.cumsum(area[::-1])[::-1][1:]
    above = np.cumsum(moment[::-1])[::-1][1:] - (order - order[0]) * beyond
    if side != "above":
        beyond, above = beyond[::-1], above[::-1]
    columns = {"threshold": levels, "area_m2": beyond, "share": beyond / area.sum()}
    units = {"threshold": surface.unit, "area_m2": SQUARE_METRE, "share": SHARE}
    if surface.unit.kind == "length":
        columns["volume_m3"] = above * float(convert(1.0, surface.unit, METRE))
        units["volume_m3"] = CUBIC_METRE
    return Chart(columns, units, "threshold", ("share",))
