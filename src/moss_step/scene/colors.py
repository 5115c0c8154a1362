"""The colours of the application: everything that is drawn takes them from here."""

from __future__ import annotations

PAPER, CARD, INK, MUTED, LINE = "#F6F4EC", "#FFFFFF", "#1F261D", "#63695D", "#DAD7CA"
MOSS, DEEP, LICHEN, WASH = "#4C6B34", "#26331E", "#D9C24A", "#F3ECCB"
WATER, OCHRE, TRAIL, GROUND = "#2C6E91", "#A3551F", "#ECE9DC", "#E3E0D2"
CLEAR = "#00000000"
"""Nothing is drawn."""
NEUTRAL, NO_VALUE, SHEET, HOLLOW = "#8C8A7A", "#C9C7BC", "#EDEADF", "#EFEDE3"
"""A class without a colour yet, shapes without a value, the plan beyond the ground, and a card without a
picture.
"""
FAINT, PALE, DIM, THREAD, RULED = "#9C998B", "#B9B6A8", "#C9C6B7", "#A9A693", "#E2DFD2"
"""Text and icons of what cannot be used, edges of bars, links between cards, and lines across charts."""
VIOLET, BLANK, HOVER, HOVER_MOSS, PICKED, PALE_MOSS = (
    "#6E5A9A",
    "#CFCCBE",
    "#E9E6D9",
    "#42602C",
    "#E5E9DA",
    "#A9B59A",
)
BADGE, BADGE_LIGHT, DEEP_HOVER, DEEP_FIELD, DEEP_FAINT, DEEP_TEXT = (
    "#6E8F4C",
    "#A7B56A",
    "#34432B",
    "#38472F",
    "#7D8773",
    "#B9BDA9",
)
"""The badge, and what lies on deep green."""

SLATE = "#5F6C7A"
"""Ground that is hidden: lines of it are dotted."""
NAMED = {"seen": LICHEN, "hidden": SLATE}
"""Colours of what means the same wherever it is drawn."""
BY_NIGHT = {
    PAPER: "#1D211B",
    CARD: "#282D25",
    INK: "#ECEBDF",
    MUTED: "#AEB3A3",
    LINE: "#454C3F",
    MOSS: "#A3C57F",
    DEEP: "#C5D8AE",
    WASH: "#4A4526",
    OCHRE: "#EE9A68",
    TRAIL: "#171A15",
    GROUND: "#383E33",
    HOLLOW: "#31372D",
    FAINT: "#7D8275",
    PALE: "#6B7063",
    DIM: "#596052",
    THREAD: "#7A8070",
    RULED: "#3B4136",
    BLANK: "#5A6053",
    HOVER: "#343A30",
    PICKED: "#3A4A2D",
    WATER: "#78B7D8",
    VIOLET: "#B6A3DE",
    SLATE: "#9DABBA",
}
"""Colours of a dark window for those of the light one."""
_CURVES = (MOSS, OCHRE, WATER, DEEP)


def curve_color(number: int) -> str:
    """Colour of a curve by its place among those of a chart."""
    return _CURVES[number % len(_CURVES)]


_POINTS = {
    0: "#9A9A90", 1: "#B7B3A4", 2: "#A9825A", 3: "#B9CF8A", 4: "#7FAE5A", 5: "#3F7A3C", 6: "#B5533C",
    7: "#D02C8C", 9: "#3E7CB1", 17: "#7C6F9C", 18: "#D02C8C",
}  # fmt: skip
_OTHER_POINTS = ("#D9A441", "#4E9B9B", "#8C6BB1", "#C46B4A", "#6B8E23", "#5B7FA6")


SEGMENTS = (
    "#4C6B34", "#B9652A", "#2C6E91", "#D9C24A", "#7C6F9C", "#4E9B9B", "#8A5A2B", "#9DBF6C", "#C98AA0",
    "#2F4B52", "#E0A86B", "#6F8FB8",
)  # fmt: skip
"""Colours of segments that lie beside each other."""
NO_SEGMENT = "#C9C6BA"


def point_color(code: int) -> str:
    """Colour of a class of points; those without one of their own take a few in turn."""
    return _POINTS.get(code, _OTHER_POINTS[code % len(_OTHER_POINTS)])
