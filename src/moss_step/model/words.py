"""Values, places and bearings in words."""

from __future__ import annotations

from moss_step.model.units import Unit


def value_text(value: float, unit: Unit, quantity: str = "") -> str:
    """Say a value with its unit; a flat aspect reads "flat"."""
    if value != value:
        return "no data"
    if quantity == "aspect":
        return "flat" if value < 0 else f"{value:.0f}° {_compass(value)}"
    if quantity == "seen":
        return f"{value:.0f}"
    digits = 2 if unit.kind in ("length", "none", "unknown") else 1
    gap = "" if unit.symbol in ("°", "%", "") else " "
    return f"{value:.{digits}f}{gap}{unit.symbol}".rstrip("?").rstrip()


def _compass(bearing: float) -> str:
    return ("N", "NE", "E", "SE", "S", "SW", "W", "NW")[round(bearing / 45.0) % 8]
