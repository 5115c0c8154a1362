"""The plan as a picture to hand on: with name, key and scale bar."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, QSizeF
from PySide6.QtGui import QColor, QFont, QImage, QPainter

from moss_step.desk.plan.drawing import draw_scale_bar
from moss_step.desk.plan.view import PlanView
from moss_step.desk.sheet.ink import Ink, broken, line_height
from moss_step.desk.sheet.key import draw_legends
from moss_step.desk.theme import font
from moss_step.scene.colors import INK, MUTED, PAPER

_SIDE, _HEAD, _MARGIN = 250, 56, 24
"""Pixels of the key at the right, of the head, and around."""
_FINE, _LETTERS = 4.4, 9.0
"""Pixels of a millimetre, and points of the letters of the key."""


def plan_picture(view: PlanView, width: int = 1600, height: int = 1100) -> QImage:
    """Draw what the plan shows on a page of pixels: name above, key at the right, scale bar below."""
    image = QImage(width, height, QImage.Format.Format_RGB32)
    image.fill(QColor(PAPER))
    with QPainter(image) as painter:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        plan = QRectF(_MARGIN, _HEAD, width - _SIDE - 2 * _MARGIN, height - _HEAD - _MARGIN)
        drawn = view.render_image(int(plan.width()), int(plan.height()))
        painter.drawImage(plan.topLeft(), drawn)
        painter.setPen(QColor(INK))
        painter.drawRect(plan)
        painter.setFont(font(22, QFont.Weight.Bold))
        painter.drawText(QPointF(_MARGIN, 37), view.work.study.name)
        metres = view.metres_per_pixel * view.width() / plan.width()
        draw_scale_bar(painter, plan.right() - 18, plan.bottom() - 18, metres, view.scene.telling)
        _draw_key(painter, view, QRectF(width - _SIDE - 4, _HEAD, _SIDE - _MARGIN + 4, plan.height()))
    return image


def _draw_key(painter: QPainter, view: PlanView, box: QRectF) -> None:
    """Draw the key, and below it the reference system."""
    painter.translate(box.topLeft())
    painter.scale(_FINE, _FINE)
    ink, wide, high = Ink(painter, _FINE), box.width() / _FINE, box.height() / _FINE
    frame, step = view.work.frame, line_height(_LETTERS)
    below = broken(frame.system_name, _LETTERS, wide) if frame is not None else ()
    room = QSizeF(wide, high - (len(below) + 2) * step)
    if draw_legends(ink, view.scene, view.work.now.shape_order, room, _LETTERS):
        below = ("and more", *below)
    for k, text in enumerate(reversed(below)):
        ink.write(text, 0.0, high - 1.0 - k * step, _LETTERS, color=MUTED)
