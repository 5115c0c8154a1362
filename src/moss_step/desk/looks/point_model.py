"""Learned classes in the trail: what each measure contributes."""

from __future__ import annotations

from PySide6.QtCore import QRectF
from PySide6.QtGui import QColor, QImage, QPainter

from moss_step.desk.looks.look import Look, blank
from moss_step.desk.tones import shade
from moss_step.scene.colors import GROUND
from moss_step.scene.kinds.point_model import PointModelPicture
from moss_step.study.graph import KeyRow

_LINE, _EDGE = 8.0, 6.0


class PointModelLook(Look):
    """Classes that were learned."""

    kind = "point_model"

    def thumbnail(self, picture: PointModelPicture, row: KeyRow, width: int, height: int) -> QImage:
        """A bar for each of the measures that contribute most, in the colour of the class."""
        image = blank(width, height)
        with QPainter(image) as painter:
            weights = sorted(picture.value.arrays["weight"].tolist(), reverse=True)
            most = max(weights[0], 1e-12)
            lines = int((height - _EDGE) / _LINE)
            for k, weight in enumerate(weights[:lines]):
                at, wide = _EDGE + k * _LINE, width - 2 * _EDGE
                painter.fillRect(QRectF(_EDGE, at, wide, 4), shade(GROUND))
                painter.fillRect(
                    QRectF(_EDGE, at, wide * weight / most, 4), QColor(picture.value.classes[0].color)
                )
        return image
