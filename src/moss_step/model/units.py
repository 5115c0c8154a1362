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
    """A unit: a key for files and settings, a symbol for the screen, a kind and a factor to the kind's
    base.
    """

    key: str
    symbol: str
    kind: str
    factor: float = 1.0

    @property
    def metres(self) -> float:
        """Metres of one unit of a length; others, and unknown ones, count as metres."""
        return self.factor if self.kind == "length" else 1.0

    def __str__(self) -> str:
        return self.key


UNITS: dict[str, Unit] = {}
"""Every unit by its key."""
_WRITTEN_AS: dict[str, Unit] = {}


def _unit(key: str, symbol: str, kind: str, factor: float = 1.0, also: str = "") -> Unit:
    """Make a unit that files and people can name: by its key, or as ``also`` says, with bars between."""
    result = UNITS[key] = Unit(key, symbol, kind, factor)
    _WRITTEN_AS.update(dict.fromkeys(filter(None, also.split("|")), result))
    return result


METRE = _unit("metre", "m", "length", also="metres|meter|meters|m")
CENTIMETRE = _unit("centimetre", "cm", "length", 0.01, also="centimeter|centimetres|centimeters|cm")
MILLIMETRE = _unit("millimetre", "mm", "length", 0.001, also="millimeter|mm")
DECIMETRE = _unit("decimetre", "dm", "length", 0.1, also="decimeter|decimetres|decimeters|dm")
YARD = _unit("yard", "yd", "length", 0.9144, also="yards|yd")
FATHOM = _unit("fathom", "fathoms", "length", 1.8288, also="fathoms")
KILOMETRE = _unit("kilometre", "km", "length", 1000.0, also="kilometer|km")
FOOT = _unit("foot", "ft", "length", 0.3048, also="feet|ft|international foot")
US_FOOT = _unit(
    "us_survey_foot",
    "ft (US)",
    "length",
    1200.0 / 3937.0,
    also="us survey foot|us survey feet|ussurveyfoot|ftus|us-ft",
)
DEGREE = _unit("degree", "°", "slope", 1.0, also="degrees|deg")
PERCENT = _unit("percent", "%", "slope", 1.0, also="%")
BEARING = _unit("bearing", "°", "bearing")
SHADE = _unit("shade", "", "shade")
NONE = _unit("none", "", "none")
UNKNOWN = _unit("unknown", "?", "unknown")
SQUARE_METRE = _unit("m2", "m²", "area")
HECTARE = _unit("ha", "ha", "area", 10_000.0)
SQUARE_KILOMETRE = _unit("km2", "km²", "area", 1_000_000.0)
ACRE = _unit("acre", "acres", "area", 4046.8564224)
ANGLE = _unit("angle_degree", "°", "angle")
PER_METRE = _unit("per_metre", "1/m", "curvature")
PER_KILOMETRE = _unit("km_per_km2", "km/km²", "density")
PER_SQUARE_METRE = _unit("per_m2", "/m²", "number_density")
CUBIC_METRE = _unit("m3", "m³", "volume")
TONNE = _unit("t", "t", "mass")
CELLS = _unit("cells", "cells", "count")
COUNT = _unit("count", "", "count")
"""How many there are of what a finding is named after."""
SHARE = _unit("fraction", "", "share")
YES_NO = _unit("yes_no", "", "yes_no")
"""1 where something holds, 0 where it does not."""
LENGTHS = tuple(u for u in UNITS.values() if u.kind == "length")
AREAS = (SQUARE_METRE, HECTARE, SQUARE_KILOMETRE, ACRE)


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
        raise MossError(
            f"{unit.key} cannot be converted to {to.key}.", "Both must measure the same kind of thing."
        )
    if unit.kind == "slope":
        turned = (
            100.0 * np.tan(np.deg2rad(values)) if unit == DEGREE else np.rad2deg(np.arctan(values / 100.0))
        )
        return turned if isinstance(values, np.ndarray) else float(turned)
    return values * (unit.factor / to.factor)
