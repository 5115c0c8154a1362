"""Tables in the trail: as the curve that they hold."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF
from PySide6.QtGui import QColor, QImage, QPainter, QPen

from moss_step.desk.looks.look import Look
from moss_step.scene.colors import CARD, MOSS
from moss_step.scene.kinds.table import TablePicture
from moss_step.study.graph import KeyRow

RATIO = 2.0


class TableLook(Look):
    """Tables: a curve when one is named."""

    kind = "table"

    def thumbnail(self, picture: TablePicture, row: KeyRow, width: int, height: int) -> QImage:
        """The curve, without axes."""
        table = picture.value
        image = QImage(round(width * RATIO), round(height * RATIO), QImage.Format.Format_RGB32)
        image.setDevicePixelRatio(RATIO)
        image.fill(QColor(CARD))
        if not table.x or not table.y or len(table) < 2:
            return image
        xs, ys = (np.asarray(table.columns[c], np.float64) for c in (table.x, table.y))
        low, high = np.nanmin(ys), np.nanmax(ys)
        px = 4 + (xs - xs.min()) / (np.ptp(xs) or 1.0) * (width - 8)
        py = height - 4 - (ys - low) / ((high - low) or 1.0) * (height - 8)
        painter = QPainter(image)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(QColor(MOSS), 1.8))
        painter.drawPolyline([QPointF(x, y) for x, y in zip(px, py, strict=True) if y == y])
        painter.end()
        return image
