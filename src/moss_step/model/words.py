"""Values, places and bearings in words."""

from __future__ import annotations

from moss_step.model.units import Unit

_LONG = 10_000.0
"""Values from which on a second decimal says nothing."""


def value_text(value: float, unit: Unit, quantity: str = "") -> str:
    """Say a value with its unit; a flat aspect reads "flat"."""
    if value != value:
        return "no data"
    if quantity == "aspect":
        return "flat" if value < 0 else f"{value:.0f}° {_compass(value)}"
    if quantity == "seen":
        return f"{value:.0f}"
    return with_symbol(_grouped(value, unit), unit)


def with_symbol(text: str, unit: Unit) -> str:
    """A number in words with the symbol of its unit."""
    gap = "" if unit.symbol in ("°", "%", "") else " "
    return f"{text}{gap}{unit.symbol}".rstrip("?").rstrip()


def measured(value: float) -> str:
    """Write a measure four significant digits, no exponent in the usual range."""
    if value == 0 or 0.01 <= abs(value) < 1e7:
        digits = 0 if abs(value) >= 1000 else 1 if abs(value) >= 10 else 2
        return f"{value:,.{digits}f}".replace(",", " ")
    return f"{value:.3g}"


def _grouped(value: float, unit: Unit) -> str:
    """Digits in groups of three: two decimals for lengths and bare numbers, one for the rest and for what has
    five digits before the point, none for a whole number without a unit.
    """
    if unit.kind == "none" and value.is_integer():
        return f"{value:,.0f}".replace(",", " ")
    digits = 2 if unit.kind in ("length", "none", "unknown") and abs(value) < _LONG else 1
    return f"{value:,.{digits}f}".replace(",", " ")


def _compass(bearing: float) -> str:
    return ("N", "NE", "E", "SE", "S", "SW", "W", "NW")[round(bearing / 45.0) % 8]
