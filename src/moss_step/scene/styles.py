"""How a result is drawn, as a style of the open standard that other programs read."""

from __future__ import annotations

import itertools

import numpy as np

from moss_step.formats.sld import between, equal, grid_style, shape_style
from moss_step.model.class_map import ClassMap
from moss_step.model.typed import of_kind
from moss_step.model.words import value_text
from moss_step.scene.grading import grading_of
from moss_step.scene.picture import Picture
from moss_step.study.graph import KeyRow

_STOPS = 17


def style_of(name: str, picture: Picture, row: KeyRow, color: str) -> str:
    """The style of a result as it is drawn; empty for what none is known for. ``color`` is that of shapes
    without a column.
    """
    if picture.shapes is not None:
        return _of_shapes(name, picture, row, color)
    classes = of_kind(picture.value, ClassMap)
    if classes is not None:
        entries = [(float(c.code), c.color, c.name) for c in classes.classes if c.code not in row.hidden]
        return grid_style(name, entries, by_values=True, opacity=row.opacity)
    return _of_surface(name, picture, row)


def _of_surface(name: str, picture: Picture, row: KeyRow) -> str:
    surface = picture.surface
    if surface is None or surface.value is not picture.value:
        return ""
    low, high = surface.span(row)
    colors = surface.colors(row)[0][:256]
    entries = []
    for share in np.linspace(0.0, 1.0, _STOPS):
        value = low + share * (high - low)
        value = 10.0**value if surface.logarithmic else value
        red, green, blue = colors[round(share * 255)]
        entries.append(
            (float(value), f"#{red:02X}{green:02X}{blue:02X}", value_text(float(value), surface.value.unit))
        )
    return grid_style(name, entries, by_values=False, opacity=row.opacity)


def _of_shapes(name: str, picture: Picture, row: KeyRow, color: str) -> str:
    shapes = picture.value
    width, grading = row.width or 1.6, grading_of(shapes, row)
    if grading is None:
        return shape_style(name, shapes.kind, [(name, color, "")], width)
    if grading.bounds:
        ranges = list(itertools.pairwise(grading.bounds))
        rules = [
            (title, ink, between(row.column, low, high, k == 0))
            for k, ((title, ink), (low, high)) in enumerate(zip(grading.classes, ranges, strict=True))
        ]
    else:
        rules = [(title, ink, equal(row.column, title)) for title, ink in grading.classes]
    return shape_style(name, shapes.kind, rules, width)
