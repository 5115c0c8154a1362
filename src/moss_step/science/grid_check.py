"""What is suspicious about a grid before anything is derived from it."""

from __future__ import annotations

import math
from typing import Protocol

from pyproj import Proj
from pyproj.exceptions import ProjError

from moss_step.model.frame import Frame
from moss_step.model.units import UNKNOWN, Unit

WORTH_SAYING = 0.01
"""Share by which a reference system may stretch the ground without a word."""
LOWEST_GROUND, HIGHEST_GROUND = -11_500.0, 9_000.0
"""Metres: a little beyond the deepest sea floor and the highest summit (common knowledge)."""


class Grounded(Protocol):
    """What is asked of a grid: its frame, unit, quantity and range, whether its cells are in memory or
    not.
    """

    @property
    def frame(self) -> Frame:
        """Where it lies."""

    @property
    def unit(self) -> Unit:
        """Unit of the values."""

    @property
    def quantity(self) -> str:
        """What is measured."""

    @property
    def range(self) -> tuple[float, float] | None:
        """Lowest and highest value."""

    @property
    def metres_per_height(self) -> float:
        """Metres in one unit of height."""


def suspicions(surface: Grounded, has_position: bool = True, unit_text: str = "") -> list[str]:
    """Say what an analyst should know before using an elevation grid, worst first; ``unit_text`` is the unit
    as the file writes it.

    Parameters
    ----------
    surface
        Values of shape (rows, cols); NaN is no-data.
    has_position
        Whether the file said where it lies.
    unit_text
        The unit as the file writes it.

    Returns
    -------
    list[str]
        Sentences; none when nothing is suspicious.

    Examples
    --------
    >>> from moss_step.science.grid_check import suspicions
    >>> from moss_step.science.sample import tilted
    >>> suspicions(tilted(), has_position=False)[0]
    'The file states no position: cells are taken as 1 by 1, from the lower left corner.'
    """
    result: list[str] = []
    frame = surface.frame
    if surface.range is None:
        result.append("Every cell is no-data. Check the no-data value, or choose another file.")
    if not has_position:
        result.append("The file states no position: cells are taken as 1 by 1, from the lower left corner.")
    if frame.crs is None:
        result.append(
            "No reference system is stated: distances are taken as metres. State it if you know it."
        )
    elif frame.geographic:
        width, height = frame.cell_metres
        result.append(
            f"Coordinates are degrees: cells are about {width:.4g} by {height:.4g} m on the ground, and "
            "that is used."
        )
    result += _stretched(frame)
    if surface.quantity == "elevation" and surface.unit == UNKNOWN and unit_text:
        result.append(
            f"The file states the unit '{unit_text[:40]}', which is not known here: metres are taken. "
            "State it."
        )
    elif surface.quantity == "elevation" and surface.unit == UNKNOWN:
        result.append("The height unit is not stated: metres are taken. State it if it is another.")
    if surface.quantity == "elevation" and surface.range is not None:
        result += _absurd_range(surface)
    return result


def _stretched(frame: Frame) -> list[str]:
    """Say by how much a projected system stretches the ground in the middle of a grid, when that is one
    percent or more.

    By PROJ's scale factors along the parallel and the meridian (Snyder 1987, USGS Professional Paper 1395).
    """
    if frame.system is None or not frame.system.is_projected:
        return []
    xmin, ymin, xmax, ymax = frame.box
    try:
        lon, lat = Proj(frame.system)((xmin + xmax) / 2.0, (ymin + ymax) / 2.0, inverse=True)
        factors = Proj(frame.system).get_factors(lon, lat)
        scales = factors.parallel_scale, factors.meridional_scale
    except ProjError:
        return ["The grid lies outside the part of the world that its reference system is made for."]
    worst = max(scales, key=lambda s: abs(s - 1.0))
    if not math.isfinite(worst) or abs(worst - 1.0) < WORTH_SAYING:
        return []
    much = f"{worst:.2f} times" if abs(worst - 1.0) >= 0.1 else f"{worst:.3f} times"
    return [
        f"{frame.system.name} draws the ground {much} its size here: distances, areas and slopes are off "
        "by as much. Reproject it to a local system."
    ]


def _absurd_range(surface: Grounded) -> list[str]:
    if surface.range is None:
        return []
    factor = surface.unit.metres
    low, high = (v * factor for v in surface.range)
    result = []
    for value, beyond in ((low, low < LOWEST_GROUND), (high, high > HIGHEST_GROUND)):
        if beyond:
            result.append(
                f"A height of {value:,.7g} m is beyond any ground: a no-data value not declared, or "
                "another unit."
            )
    if not result and low == -9999.0 * factor:
        result.append("The lowest height is -9999: probably a no-data value that is not declared.")
    if low == high:
        result.append(f"Every cell holds {low:g} m.")
    return result
