"""Ready sets of class rules."""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from typing import get_args

from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.rules import Closed, Rule, RuleSet
from moss_step.model.surface import FLAT, Surface
from moss_step.model.units import DEGREE, PERCENT, UNKNOWN, convert
from moss_step.science.classes.breaks import BreakMethod, breaks

PRESETS = ("fao_slope", "aspect_8", "equal_interval", "equal_count", "natural")
PRESET_NAMES = {
    "fao_slope": "FAO slope classes",
    "aspect_8": "Eight aspect sectors",
    "equal_interval": "Equal interval",
    "equal_count": "Equal count",
    "natural": "Natural breaks",
}

SEQUENCE = ("#E9E8D8", "#CAD39B", "#DCBB62", "#CF7340", "#86303F")
"""Class colours from low to high, interpolated for other counts: light to dark, so that order reads without
hue.
"""

_FAO = (
    (0.2, "Flat"),
    (0.5, "Level"),
    (1.0, "Nearly level"),
    (2.0, "Very gently sloping"),
    (5.0, "Gently sloping"),
    (10.0, "Sloping"),
    (15.0, "Strongly sloping"),
    (30.0, "Moderately steep"),
    (60.0, "Steep"),
    (None, "Very steep"),
)
_SECTORS = ("North", "North-east", "East", "South-east", "South", "South-west", "West", "North-west")
_SECTOR_COLORS = ("#4A6FA5", "#5B9AA8", "#7DAE6B", "#C9C25A", "#E0A23F", "#C9643B", "#9A4A6B", "#6E5A9A")


def colors_between(count: int, stops: Sequence[str] = SEQUENCE) -> list[str]:
    """Give ``count`` colours spread evenly over a list of stops.

    Parameters
    ----------
    count
        How many are asked for, or there are.
    stops
        Colours as ``#RRGGBB`` that lie between.

    Returns
    -------
    list[str]
        Colours as ``#RRGGBB``.

    Examples
    --------
    >>> from moss_step.science.classes.presets import colors_between
    >>> colors_between(3)
    ['#E9E8D8', '#DCBB62', '#86303F']
    """
    rgb = [tuple(int(s[i : i + 2], 16) for i in (1, 3, 5)) for s in stops]
    result = []
    for k in range(count):
        place = k / max(count - 1, 1) * (len(rgb) - 1)
        i = min(int(place), len(rgb) - 2)
        t = place - i
        result.append(
            "#" + "".join(f"{round(a + (b - a) * t):02X}" for a, b in zip(rgb[i], rgb[i + 1], strict=True))
        )
    return result


def fao_slope(surface: Surface, closed: Closed = "upper") -> RuleSet:
    """Slope classes of FAO 2006, Guidelines for soil description, table 7: percent, turned to degrees if need
    be.

    A surface of unknown unit is taken as percent.

    Parameters
    ----------
    surface
        Values of shape (rows, cols); NaN is no-data.
    closed
        Which bound belongs to a range: the upper or the lower.

    Returns
    -------
    RuleSet
        Seven ranges.

    Raises
    ------
    MossError
        When the surface is known to be no slope.

    Source
    ------
    FAO 2006, Guidelines for soil description, 4th edition, table 7.

    Examples
    --------
    >>> from moss_step.science.classes.presets import fao_slope
    >>> from moss_step.science.relief.gradient import slope
    >>> from moss_step.science.sample import tilted
    >>> [r.name for r in fao_slope(slope(tilted(), unit="percent")).rules][:3]
    ['Flat', 'Level', 'Nearly level']
    """
    unit = PERCENT if surface.unit == UNKNOWN else surface.unit
    if unit not in (DEGREE, PERCENT):
        raise MossError(
            f"FAO slope classes need a slope, and this surface holds {surface.quantity} in "
            f"{surface.unit.key}.",
            "Derive slope first.",
        )
    colors = colors_between(len(_FAO))
    rules, low = [], 0.0
    for code, (high, name) in enumerate(_FAO, start=1):
        top = None if high is None else round(float(convert(high, PERCENT, unit)), 6)
        rules.append(Rule(low, top, code, name, colors[code - 1]))
        low = top or 0.0
    return RuleSet(tuple(rules), closed)


def aspect_sectors(closed: Closed = "upper") -> RuleSet:
    """Eight sectors of 45 degrees, north from 337.5 to 22.5, and flat as its own class (common practice).

    Parameters
    ----------
    closed
        Which bound belongs to a range: the upper or the lower.

    Returns
    -------
    RuleSet
        Nine classes, north in two ranges.

    Source
    ------
    Common practice.

    Examples
    --------
    >>> from moss_step.science.classes.presets import aspect_sectors
    >>> [r.name for r in aspect_sectors().rules]
    ['Flat', 'North', 'North-east', 'East', 'South-east', 'South', 'South-west', 'West', 'North-west']
    """
    rules = [Rule(FLAT, FLAT, 0, "Flat", "#C9C7BC")]
    for i, name in enumerate(_SECTORS):
        low, high = (i * 45.0 - 22.5) % 360.0, i * 45.0 + 22.5
        rules.append(Rule(low, high, i + 1, name, _SECTOR_COLORS[i]))
    return RuleSet(tuple(rules), closed)


def from_breaks(bounds: Sequence[float], closed: Closed = "upper") -> RuleSet:
    """Rules between ascending bounds, named by their number.

    Parameters
    ----------
    bounds
        Ascending bounds of classes.
    closed
        Which bound belongs to a range: the upper or the lower.

    Returns
    -------
    RuleSet
        One range between each two bounds.

    Examples
    --------
    >>> from moss_step.science.classes.presets import from_breaks
    >>> [(r.low, r.high) for r in from_breaks([0.0, 5.0, 10.0]).rules]
    [(0.0, 5.0), (5.0, 10.0)]
    """
    colors = colors_between(len(bounds) - 1)
    return RuleSet(
        tuple(
            Rule(_tidy(a), _tidy(b), i + 1, f"Class {i + 1}", colors[i])
            for i, (a, b) in enumerate(itertools.pairwise(bounds))
        ),
        closed,
    )


def preset(name: str, surface: Surface, count: int = 5, closed: Closed = "upper") -> RuleSet:
    """Give a ready set by its name; ``count`` is the number of classes of those made from the values.

    Parameters
    ----------
    name
        Name of the class yes.
    surface
        Values of shape (rows, cols); NaN is no-data.
    count
        How many are asked for, or there are.
    closed
        Which bound belongs to a range: the upper or the lower.

    Returns
    -------
    RuleSet
        The ranges.

    Raises
    ------
    AskedWronglyError
        For a name that is not in PRESETS.
    MossError
        When the set does not fit the surface.

    Examples
    --------
    >>> from moss_step.science.classes.presets import preset
    >>> from moss_step.science.sample import tilted
    >>> [(r.low, r.high) for r in preset("equal_interval", tilted(), 2).rules]
    [(0.0, 4.0), (4.0, 8.0)]
    """
    if name == "fao_slope":
        return fao_slope(surface, closed)
    if name == "aspect_8":
        if not surface.cyclic and surface.unit != UNKNOWN:
            raise MossError(
                f"Aspect sectors need an aspect, and this surface holds {surface.quantity}.",
                "Derive aspect first.",
            )
        return aspect_sectors(closed)
    for method in get_args(BreakMethod):
        if name == method:
            return from_breaks(breaks(surface, method, count), closed)
    raise AskedWronglyError(f"'{name}' is not a ready set of rules.", f"Ready sets: {', '.join(PRESETS)}.")


def _tidy(value: float) -> float:
    return float(f"{value:.9g}")
