"""Shading by several lights, and the tint of height bands: pictures of the ground for the eye."""

from __future__ import annotations

import math

import numpy as np

from moss_step.model.class_map import NO_CLASS, ClassEntry, ClassMap
from moss_step.model.errors import MossError
from moss_step.model.mapped import row_by_row
from moss_step.model.progress import Progress, silent
from moss_step.model.rules import number_text
from moss_step.model.surface import Surface
from moss_step.model.units import SHADE
from moss_step.science.classes.presets import colors_between
from moss_step.science.relief.gradient import aspect, hillshade

LIGHTS = (225.0, 270.0, 315.0, 360.0)
"""Bearings of the four lights of Mark 1992."""
TINTS = ("#5E8C6A", "#A9BF86", "#E6DDAA", "#CFA873", "#9A7257", "#EDEAE4")
_MOST_BANDS = 60


def several_lights(
    dem: Surface, altitude: float = 30.0, z_factor: float = 1.0, progress: Progress | None = None
) -> Surface:
    """Light of four lamps from 225, 270, 315 and 360 degrees, each weighed by how far across it the slope
    faces, 0 to 255.

    The weight is the squared sine of the angle between the aspect and the lamp, so that ridges along one
    light are modelled by the others: Mark 1992, Multidirectional, oblique-weighted, shaded-relief image of
    the Island of Hawaii, USGS OFR 92-422. Level cells get the plain mean.

    Parameters
    ----------
    dem
        The ground: heights in its unit, of shape (rows, cols); NaN is no-data.
    altitude
        Degrees that the light stands above the horizon.
    z_factor
        What heights are multiplied by beside their unit.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    Surface
        0 to 255, float32.

    Source
    ------
    Mark 1992, USGS Open-File Report 92-422.

    Examples
    --------
    >>> from moss_step.science.relief.shading import several_lights
    >>> from moss_step.science.sample import tilted
    >>> round(float(several_lights(tilted()).values[1, 2]), 1)
    145.4
    """
    progress = progress or silent()
    facing = aspect(dem).values
    flat = facing < 0
    total = np.zeros(dem.frame.shape, np.float32)
    for k, azimuth in enumerate(LIGHTS):
        progress.at(0.1 + 0.2 * k, "Shading")
        weight = np.sin(np.radians(facing - np.float32(azimuth))) ** 2
        weight[flat] = 0.5
        total += weight * hillshade(dem, azimuth, altitude, z_factor).values
    total /= np.float32(2.0)  # the four weights always add up to 2
    return Surface(total, dem.frame, SHADE, "shade")


def relief_tint(dem: Surface, interval: float | None = None, base: float = 0.0) -> ClassMap:
    """Bands of height in tints from low green to high pale, with bounds at ``base`` and every ``interval``
    from it.

    Without an interval a round one gives about ten bands. A band holds its lower bound.

    Parameters
    ----------
    dem
        The ground: heights in its unit, of shape (rows, cols); NaN is no-data.
    interval
        Height from one line or band to the next, in the unit of the ground.
    base
        Height that lines or bands are counted from, in the unit of the ground.

    Returns
    -------
    ClassMap
        Bands with their colours.

    Raises
    ------
    MossError
        For a ground without values or for more than 60 bands.

    Examples
    --------
    >>> from moss_step.science.relief.shading import relief_tint
    >>> from moss_step.science.sample import tilted
    >>> relief_tint(tilted(), interval=4.0).codes[0].tolist()
    [0, 0, 1, 1, 2]
    """
    span = dem.range
    if span is None:
        raise MossError("The ground holds no values.", "Choose another ground.")
    step = interval or round_interval((span[1] - span[0]) / 10.0)
    first, last = (math.floor((v - base) / step) for v in span)
    count = last - first + 1
    if count > _MOST_BANDS:
        raise MossError(
            f"There would be {count:,} bands.",
            f"Choose an interval of {round_interval((span[1] - span[0]) / 40):g} or more.",
        )

    def tinted(heights: np.ndarray) -> np.ndarray:
        bands = np.floor((heights.astype(np.float64) - base) / step) - first
        return np.where(np.isnan(bands), NO_CLASS, bands).astype(np.uint8)

    codes = row_by_row(tinted, np.uint8, dem.values)
    colors = colors_between(count, TINTS)
    bounds = [base + step * (first + k) for k in range(count + 1)]
    names = [
        f"{number_text(bounds[k])} – {number_text(bounds[k + 1])} {dem.unit.symbol}".strip()
        for k in range(count)
    ]
    entries = tuple(ClassEntry(k, names[k], colors[k]) for k in range(count))
    return ClassMap(codes, dem.frame, entries)


def round_interval(wanted: float) -> float:
    """The least of 1, 2, 5 times a power of ten that is not below a number; 1 for nothing.

    Parameters
    ----------
    wanted
        What is asked for.

    Returns
    -------
    float
        The interval.

    Examples
    --------
    >>> from moss_step.science.relief.shading import round_interval
    >>> round_interval(37.0)
    50.0
    """
    if not wanted > 0:
        return 1.0
    power = 10.0 ** math.floor(math.log10(wanted))
    return next(k * power for k in (1.0, 2.0, 5.0, 10.0) if k * power >= wanted * (1 - 1e-9))
