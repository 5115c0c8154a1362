"""The colours of the application: everything that is drawn takes them from here."""

from __future__ import annotations

PAPER, CARD, INK, MUTED, LINE = "#F6F4EC", "#FFFFFF", "#1F261D", "#63695D", "#DAD7CA"
MOSS, DEEP, LICHEN, WASH = "#4C6B34", "#26331E", "#D9C24A", "#F3ECCB"
WATER, OCHRE, TRAIL, GROUND = "#2C6E91", "#A3551F", "#ECE9DC", "#E3E0D2"

_CURVES = (MOSS, OCHRE, WATER, DEEP)


def curve_color(number: int) -> str:
    """Colour of a curve by its place among those of a chart."""
    return _CURVES[number % len(_CURVES)]
