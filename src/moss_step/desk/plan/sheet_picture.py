"""The plan as a picture to hand on: with name, key and scale bar."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QFont, QFontMetricsF, QImage, QPainter

from moss_step.desk.plan.drawing import draw_scale_bar, shape_color
from moss_step.desk.plan.view import PlanView
from moss_step.desk.theme import font
from moss_step.scene.colors import INK, MUTED, PAPER
from moss_step.scene.layers import Layer
from moss_step.scene.picture import Ramp

_SIDE, _HEAD, _MARGIN = 250, 56, 24
_LINE = 22


def plan_picture(view: PlanView, width: int = 1600, height: int = 1100) -> QImage:
    """Draw what the plan shows on a page of pixels: name above, key at the right, scale bar below."""
    image = QImage(width, height, QImage.Format.Format_RGB32)
    image.fill(QColor(PAPER))
    painter = QPainter(image)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    plan = QRectF(_MARGIN, _HEAD, width - _SIDE - 2 * _MARGIN, height - _HEAD - _MARGIN)
    drawn = view.render_image(int(plan.width()), int(plan.height()))
    painter.drawImage(plan.topLeft(), drawn)
    painter.setPen(QColor(INK))
    painter.drawRect(plan)
    painter.setFont(font(22, QFont.Weight.Bold))
    painter.drawText(QPointF(_MARGIN, 37), view.work.study.name)
    _draw_key(painter, view, QRectF(width - _SIDE - 4, _HEAD, _SIDE - _MARGIN + 4, plan.height()))
    metres = view.metres_per_pixel * view.width() / plan.width()
    draw_scale_bar(painter, plan.right() - 18, plan.bottom() - 18, metres, view.scene.telling)
    painter.end()
    return image


def _draw_key(painter: QPainter, view: PlanView, box: QRectF) -> None:
    y = _text(painter, "Key", box, box.top(), QFont.Weight.Bold)
    for layer in view.scene.layers:
        if y > box.bottom() - 3 * _LINE:
            break
        y = _text(painter, layer.name, box, y + 6, QFont.Weight.DemiBold)
        y = _draw_legend(painter, view, layer, box, y)
    if view.scene.ground is not None and view.scene.shading.on:
        shading = view.scene.shading
        _text(painter, f"Relief shading, light from {shading.azimuth:g}°", box, y + 6, color=MUTED)
    frame = view.work.frame
    if frame is not None:
        _text(painter, frame.system_name, box, box.bottom() - _LINE, color=MUTED)


def _draw_legend(painter: QPainter, view: PlanView, layer: Layer, box: QRectF, y: float) -> float:
    color = shape_color(view.work.now.shape_order.get(layer.step, 0))
    legend = layer.picture.legend(layer.row, layer.ranges, color, view.scene.telling)
    for name, ink in legend.classes:
        y = _patch(painter, ink, name, box, y)
    return y if legend.ramp is None else _ramp(painter, legend.ramp, box, y)


def _ramp(painter: QPainter, ramp: Ramp, box: QRectF, y: float) -> float:
    bar = QImage(ramp.colors.data, 256, 1, 768, QImage.Format.Format_RGB888)
    painter.drawImage(QRectF(box.left(), y + 4, box.width(), 12), bar)
    painter.setFont(font(12))
    painter.setPen(QColor(MUTED))
    line = QRectF(box.left(), y + 18, box.width(), 16)
    painter.drawText(line, Qt.AlignmentFlag.AlignLeft, ramp.ends[0])
    painter.drawText(line, Qt.AlignmentFlag.AlignRight, ramp.ends[1])
    return y + 38


def _patch(painter: QPainter, color: str, text: str, box: QRectF, y: float) -> float:
    painter.setPen(QColor(0, 0, 0, 60))
    painter.setBrush(QColor(color))
    painter.drawRoundedRect(QRectF(box.left(), y + 3, 16, 15), 3, 3)
    _text(painter, text, box.adjusted(24, 0, 0, 0), y)
    return y + _LINE


def _text(
    painter: QPainter,
    text: str,
    box: QRectF,
    y: float,
    weight: QFont.Weight = QFont.Weight.Normal,
    color: str = INK,
) -> float:
    face = font(14, weight)
    painter.setFont(face)
    painter.setPen(QColor(color))
    shown = QFontMetricsF(face).elidedText(text, Qt.TextElideMode.ElideRight, box.width())
    painter.drawText(QRectF(box.left(), y, box.width(), _LINE), Qt.AlignmentFlag.AlignVCenter, shown)
    return y + _LINE
