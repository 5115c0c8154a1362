"""Units of measure that travel with values, and conversion between them.

Factors: international foot 0.3048 m exactly; US survey foot 1200/3937 m (NIST Handbook 44);
international acre 4046.8564224 m2; yard 0.9144 m and fathom 1.8288 m
(international yard and pound agreement, 1959). Percent slope is 100 times the tangent of the slope angle.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import overload

import numpy as np

from moss_step.model.errors import MossError


@dataclass(frozen=True)
class Unit:
    """A unit: a key for files and settings, a symbol for the screen, a kind and a factor to the kind's base."""

    key: str
    symbol: str
    kind: str
    factor: float = 1.0

    def __str__(self) -> str:
        return self.key


METRE = Unit("metre", "m", "length")
CENTIMETRE = Unit("centimetre", "cm", "length", 0.01)
MILLIMETRE = Unit("millimetre", "mm", "length", 0.001)
DECIMETRE = Unit("decimetre", "dm", "length", 0.1)
YARD = Unit("yard", "yd", "length", 0.9144)
FATHOM = Unit("fathom", "fathoms", "length", 1.8288)
KILOMETRE = Unit("kilometre", "km", "length", 1000.0)
FOOT = Unit("foot", "ft", "length", 0.3048)
US_FOOT = Unit("us_survey_foot", "ft (US)", "length", 1200.0 / 3937.0)
DEGREE = Unit("degree", "°", "slope", 1.0)
PERCENT = Unit("percent", "%", "slope", 1.0)
BEARING = Unit("bearing", "°", "bearing")
SHADE = Unit("shade", "", "shade")
NONE = Unit("none", "", "none")
UNKNOWN = Unit("unknown", "?", "unknown")
SQUARE_METRE = Unit("m2", "m²", "area")
HECTARE = Unit("ha", "ha", "area", 10_000.0)
SQUARE_KILOMETRE = Unit("km2", "km²", "area", 1_000_000.0)
ACRE = Unit("acre", "acres", "area", 4046.8564224)
ANGLE = Unit("angle_degree", "°", "angle")
PER_METRE = Unit("per_metre", "1/m", "curvature")
CUBIC_METRE = Unit("m3", "m³", "volume")
CELLS = Unit("cells", "cells", "count")
SHARE = Unit("fraction", "", "share")

UNITS = {
    u.key: u
    for u in (
        METRE,
        CENTIMETRE,
        MILLIMETRE,
        DECIMETRE,
        KILOMETRE,
        YARD,
        FATHOM,
        FOOT,
        US_FOOT,
        DEGREE,
        PERCENT,
        BEARING,
        SHADE,
        NONE,
        UNKNOWN,
        SQUARE_METRE,
        HECTARE,
        SQUARE_KILOMETRE,
        ACRE,
        CUBIC_METRE,
        CELLS,
        PER_METRE,
        SHARE,
    )
}
LENGTHS = tuple(u for u in UNITS.values() if u.kind == "length")
AREAS = (SQUARE_METRE, HECTARE, SQUARE_KILOMETRE, ACRE)

_WRITTEN_AS = {
    "metre": METRE,
    "metres": METRE,
    "meter": METRE,
    "meters": METRE,
    "m": METRE,
    "centimetre": CENTIMETRE,
    "centimeter": CENTIMETRE,
    "centimetres": CENTIMETRE,
    "centimeters": CENTIMETRE,
    "cm": CENTIMETRE,
    "millimetre": MILLIMETRE,
    "millimeter": MILLIMETRE,
    "mm": MILLIMETRE,
    "decimetre": DECIMETRE,
    "decimeter": DECIMETRE,
    "decimetres": DECIMETRE,
    "decimeters": DECIMETRE,
    "dm": DECIMETRE,
    "yard": YARD,
    "yards": YARD,
    "yd": YARD,
    "fathom": FATHOM,
    "fathoms": FATHOM,
    "kilometre": KILOMETRE,
    "kilometer": KILOMETRE,
    "km": KILOMETRE,
    "foot": FOOT,
    "feet": FOOT,
    "ft": FOOT,
    "international foot": FOOT,
    "us_survey_foot": US_FOOT,
    "us survey foot": US_FOOT,
    "us survey feet": US_FOOT,
    "ussurveyfoot": US_FOOT,
    "ftus": US_FOOT,
    "us-ft": US_FOOT,
    "degree": DEGREE,
    "degrees": DEGREE,
    "deg": DEGREE,
    "percent": PERCENT,
    "%": PERCENT,
}


def unit_named(text: str) -> Unit | None:
    """Give the unit that a file or a person writes as ``text``, or None when it is not known."""
    clean = text.strip().lower()
    return UNITS.get(clean) or _WRITTEN_AS.get(clean)


@overload
def convert(values: float, unit: Unit, to: Unit) -> float: ...


@overload
def convert(values: np.ndarray, unit: Unit, to: Unit) -> np.ndarray: ...


def convert(values: float | np.ndarray, unit: Unit, to: Unit) -> float | np.ndarray:
    """Convert numbers between two units of one kind; degrees and percent of slope by the tangent.

    Raises MossError when the two units do not measure the same kind of thing.
    """
    if unit == to:
        return values
    if unit.kind != to.kind or unit.kind in ("unknown", "none"):
        raise MossError(f"{unit.key} cannot be converted to {to.key}.", "Both must measure the same kind of thing.")
    if unit.kind == "slope":
        turned = 100.0 * np.tan(np.deg2rad(values)) if unit == DEGREE else np.rad2deg(np.arctan(values / 100.0))
        return turned if isinstance(values, np.ndarray) else float(turned)
    return values * (unit.factor / to.factor)
