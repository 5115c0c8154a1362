"""What explains the colours and lines of a scene: names, patches and ramps, from top to bottom."""

from __future__ import annotations

from collections.abc import Mapping

from PySide6.QtCore import QPointF, QRectF, QSizeF
from PySide6.QtGui import QColor, QImage

from moss_step.desk.plan.drawing import shape_color
from moss_step.desk.sheet.ink import MIDDLE, POINT, RIGHT, Ink, broken, fitted, line_height, width_of
from moss_step.scene.colors import CARD, MUTED
from moss_step.scene.layers import Layer, Scene
from moss_step.scene.picture import Legend, Ramp
from moss_step.scene.sheet.greys import alike_in_grey

_PATCH_W, _RAMP_H = 6.0, 3.2
"""Millimetres of a patch of colour, and of a ramp."""


def draw_legends(ink: Ink, scene: Scene, order: Mapping[str, int], room: QSizeF, size: float) -> str:
    """Explain the layers of a scene in letters of a size; ``order`` gives the places of shapes, which choose
    their colours. Gives the name of the first one that has no room; empty where all have.
    """
    y, wide, left = 0.0, room.width(), list(scene.layers)
    with ink.within(QRectF(0, 0, wide, room.height())):
        while left:
            layer = left[0]
            color = shape_color(order.get(layer.step, 0))
            legend = layer.picture.legend(layer.row, layer.ranges, color, scene.telling)
            height = _legend(ink, layer, legend, wide, y, size, draw=False)
            if y + height > room.height() + 0.01:
                return layer.name
            _legend(ink, layer, legend, wide, y, size, draw=True)
            y += height
            del left[0]
        shading = scene.shading
        if scene.ground is not None and shading.on and y + line_height(size) <= room.height():
            text = f"Relief shading, light from {shading.azimuth:g}°"
            ink.write(fitted(text, size, wide), 0, y + size * POINT, size, color=MUTED)
    return ""


def _legend(ink: Ink, layer: Layer, legend: Legend, width: float, y: float, size: float, draw: bool) -> float:
    """Draw what explains one result, or only measure it; gives its height."""
    step, top, base = line_height(size), y, size * POINT * 0.95
    for line in broken(layer.name, size, width, bold=True):
        if draw:
            ink.write(line, 0, y + base, size, bold=True)
        y += step
    if draw:
        ink.hit(0, top, width, y - top, layer.step)
        said = alike_in_grey(layer.name, legend)
        if said:
            ink.remark(said)
    if legend.title:
        if draw:
            ink.write(fitted(legend.title, size, width), 0, y + base, size, color=MUTED)
        y += step
    for name, tone in legend.classes:
        lines = broken(name, size, width - _PATCH_W - 2)
        if draw:
            _patch(ink, legend, layer, tone, y + base, size)
            for k, line in enumerate(lines):
                ink.write(line, _PATCH_W + 2, y + base + k * step, size)
        y += max(len(lines), 1) * step
    if legend.ramp is not None:
        if draw:
            _ramp(ink, legend.ramp, width, y, size)
        y += _RAMP_H + 0.6 + step
    return y - top + 0.4 * step


def _patch(ink: Ink, legend: Legend, layer: Layer, tone: str, base: float, size: float) -> None:
    high = size * POINT * 0.8
    if layer.picture.shapes is not None and layer.picture.shapes.value.kind == "lines":
        ink.line(0, base - high / 2, _PATCH_W, base - high / 2, 0.6, tone)
        return
    if layer.picture.on_top:
        ink.painter.setPen(ink.pen(0.2, CARD))
        ink.painter.setBrush(QColor(tone))
        ink.painter.drawEllipse(QPointF(_PATCH_W / 2, base - high / 2), high / 2, high / 2)
        return
    plain = layer.picture.shapes is not None and not legend.title
    ink.painter.setOpacity(layer.row.opacity)
    ink.box(
        0,
        base - high,
        _PATCH_W,
        high,
        0.5 if plain else 0.12,
        tone if plain else MUTED,
        "" if plain else tone,
    )
    ink.painter.setOpacity(1.0)


def _ramp(ink: Ink, ramp: Ramp, width: float, y: float, size: float) -> None:
    bar = QImage(ramp.colors.data, 256, 1, 768, QImage.Format.Format_RGB888).copy()
    ink.painter.drawImage(QRectF(0, y + 0.4, width, _RAMP_H), bar)
    ink.box(0, y + 0.4, width, _RAMP_H, 0.12, MUTED)
    base = y + _RAMP_H + 0.6 + size * POINT
    low, high = ramp.ends
    ink.write(low, 0, base, size, color=MUTED)
    ink.write(high, width, base, size, RIGHT, color=MUTED)
    free = width_of(low, size) + 1.5, width - width_of(high, size) - 1.5
    for at, text in ramp.marks:
        half, x = width_of(text, size) / 2, at * width
        if x - half > free[0] and x + half < free[1]:
            ink.line(x, y + _RAMP_H - 0.4, x, y + _RAMP_H + 0.4, 0.15)
            ink.write(text, x, base, size, MIDDLE, color=MUTED)
            free = x + half + 1.5, free[1]
