"""Curves on a page: charts of the study, and sections through its surfaces, as lines and letters."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import shapely
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPolygonF

from moss_step.desk.sheet.ink import LEFT, MIDDLE, POINT, RIGHT, Ink, line_height, width_of
from moss_step.model.chart import Chart
from moss_step.model.errors import MossError
from moss_step.model.surface import Surface
from moss_step.model.typed import of_kind
from moss_step.model.units import METRE
from moss_step.scene.colors import MUTED, RULED, curve_color
from moss_step.scene.picture import round_values
from moss_step.scene.sheet.sheet import Sheet
from moss_step.scene.tables import cell_text, column_words
from moss_step.science.relief.profile import profile
from moss_step.study.pages import ChartPart, SectionPart

_POINTS = 400
_DISTANCE = "distance"


@dataclass(frozen=True)
class Curve:
    """Places of a curve, its name, and whether it is single values."""

    x: np.ndarray
    y: np.ndarray
    name: str
    dots: bool = False


def draw_chart(ink: Ink, sheet: Sheet, part: ChartPart) -> None:
    """Draw the curves of a chart."""
    box = QRectF(0, 0, part.width, part.height)
    picture = sheet.now.picture(part.result) if sheet.now.study.has(part.result) else None
    chart = None if picture is None else of_kind(picture.value, Chart)
    if chart is None:
        gone = bool(part.result) and not sheet.now.study.has(part.result)
        ink.remark("A chart of the page has no curves to draw.")
        ink.note("[removed]" if gone else "Choose a result with curves", box)
        return
    ink.hit(0, 0, part.width, part.height, part.result)
    telling = sheet.now.study.telling
    across, symbol = telling.column(chart.unit(chart.across).symbol)
    curves, units = [], set()
    for name in [n for n in part.curves if n in chart.up] or list(chart.up[:4]):
        x, y = chart.curve(name)
        factor, up = telling.column(chart.unit(name).symbol)
        units.add(up)
        curves.append(Curve(x * across, y * factor, column_words(name, up), name in chart.dots))
    shared = units.pop() if len(units) == 1 else ""
    draw_curves(ink, box, curves, column_words(chart.across, symbol), symbol, shared, part.size)


def draw_section(ink: Ink, sheet: Sheet, part: SectionPart) -> None:
    """Draw surfaces along a line, in the units of the study."""
    box, now = QRectF(0, 0, part.width, part.height), sheet.now
    surfaces: dict[str, Surface] = {}
    for ref in part.surfaces or ((now.study.shading.ground,) if now.study.shading.ground else ()):
        picture = now.picture(ref) if now.study.has(ref) else None
        surface = None if picture is None or picture.surface is None else picture.surface.value
        if surface is None:
            name = now.study.name_of(ref) if now.study.has(ref) else f"[removed]: {ref}"
            ink.remark(f"The section does not show '{name}'.")
        else:
            surfaces[now.study.name_of(ref)] = surface
    path = shapely.LineString(part.line) if len(part.line) > 1 else shapely.LineString()
    if not surfaces or path.length == 0:
        ink.note("Choose a surface and draw a line" if not surfaces else "Draw its line on the plan", box)
        return
    try:
        table = profile(surfaces, path, path.length / _POINTS)
    except MossError as error:
        ink.remark(f"The section cannot be drawn: {error}")
        ink.note(str(error), box)
        return
    ink.hit(0, 0, part.width, part.height, next(iter(part.surfaces), now.study.shading.ground))
    telling = now.study.telling
    across, symbol = telling.column(table.unit(_DISTANCE).symbol or METRE.symbol)
    curves, units = [], set()
    for name in surfaces:
        factor, up = telling.column(table.unit(name).symbol)
        units.add(up)
        curves.append(Curve(table.columns[_DISTANCE] * across, table.columns[name] * factor, f"{name}, {up}"))
    draw_curves(
        ink, box, curves, f"Distance, {symbol}", symbol, units.pop() if len(units) == 1 else "", part.size
    )


def draw_curves(
    ink: Ink, box: QRectF, curves: list[Curve], across: str, symbol: str, up: str, size: float
) -> None:
    """Draw curves over one value, with round numbers at both axes and the names of the curves above."""
    held = [c for c in curves if np.isfinite(c.x).any() and np.isfinite(c.y).any()]
    if not held:
        ink.note("No values to draw", box)
        return
    step = line_height(size)
    x0, x1 = _span([c.x for c in held])
    y0, y1 = _span([c.y for c in held])
    marks = [(v, cell_text(float(v), up)) for v in round_values(y0, y1, 5)]
    left = max(width_of(t, size) for _, t in marks) + 2.0
    head = _heads(ink, held, box, left, size)
    area = QRectF(left, head, box.width() - left - 3.0, box.height() - head - 2.2 * step)
    if area.width() < 5 or area.height() < 5:
        ink.note("Too small for its curves", box)
        return
    for value, text in marks:
        y = area.bottom() - (value - y0) / (y1 - y0) * area.height()
        ink.line(area.left(), y, area.right(), y, 0.12, RULED)
        ink.write(text, area.left() - 1.0, y + size * POINT * 0.35, size, RIGHT, color=MUTED)
    for value in round_values(x0, x1, 6):
        x = area.left() + (value - x0) / (x1 - x0) * area.width()
        ink.line(x, area.bottom(), x, area.bottom() + 1.0, 0.2)
        ink.write(cell_text(float(value), symbol), x, area.bottom() + step, size, MIDDLE, color=MUTED)
    ink.write(across, area.center().x(), area.bottom() + 2 * step, size, MIDDLE)
    with ink.within(area):
        for number, curve in enumerate(held):
            across_mm = (curve.x - x0) / (x1 - x0) * area.width()
            down_mm = area.height() - (curve.y - y0) / (y1 - y0) * area.height()
            _draw_one(ink, across_mm, down_mm, curve.dots, curve_color(number))
    ink.line(area.left(), area.bottom(), area.right(), area.bottom(), 0.25)
    ink.line(area.left(), area.top(), area.left(), area.bottom(), 0.25)


def _heads(ink: Ink, curves: list[Curve], box: QRectF, left: float, size: float) -> float:
    """Write the names of the curves beside their colours; gives where the curves begin below."""
    step, x, y = line_height(size), left, size * POINT
    for number, curve in enumerate(curves):
        wide = width_of(curve.name, size) + 9.0
        if x + wide > box.width() and x > left:
            x, y = left, y + step
        ink.line(x, y - size * POINT * 0.35, x + 5.0, y - size * POINT * 0.35, 0.6, curve_color(number))
        ink.write(curve.name, x + 6.0, y, size, LEFT)
        x += wide + 3.0
    return y + 0.8 * step


def _span(values: list[np.ndarray]) -> tuple[float, float]:
    low = min(float(np.nanmin(v[np.isfinite(v)])) for v in values if np.isfinite(v).any())
    high = max(float(np.nanmax(v[np.isfinite(v)])) for v in values if np.isfinite(v).any())
    return (low, high) if high > low else (low - 0.5, high + 0.5)


def _draw_one(ink: Ink, x: np.ndarray, y: np.ndarray, dots: bool, color: str) -> None:
    """Draw one curve; it is broken where values are missing."""
    painter, known = ink.painter, np.isfinite(x) & np.isfinite(y)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.setPen(ink.pen(0.45, color))
    if dots:
        for u, v in zip(x[known].tolist(), y[known].tolist(), strict=True):
            ink.box(u - 0.5, v - 0.5, 1.0, 1.0, 0.0, fill=color)
        return
    cuts = np.flatnonzero(np.diff(np.concatenate([[0], known.astype(np.int8), [0]])))
    for first, last in zip(cuts[::2].tolist(), cuts[1::2].tolist(), strict=True):
        points = zip(x[first:last].tolist(), y[first:last].tolist(), strict=True)
        painter.drawPolyline(QPolygonF([QPointF(u, v) for u, v in points]))
