"""Charts in the trail: their curves, without axes."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QColor, QImage, QPainter, QPen

from moss_step.desk.looks.look import Look, blank
from moss_step.scene.colors import curve_color
from moss_step.scene.kinds.chart import ChartPicture
from moss_step.study.graph import KeyRow

_EDGE, _DOT = 4, 2.6


class ChartLook(Look):
    """Charts: curves."""

    kind = "chart"

    def thumbnail(self, picture: ChartPicture, row: KeyRow, width: int, height: int) -> QImage:
        """All curves on one scale."""
        image, chart = blank(width, height), picture.value
        curves = [chart.curve(name) for name in chart.up]
        known = np.concatenate([y[np.isfinite(y)] for _, y in curves]) if curves else np.empty(0)
        if len(chart) < 2 or not known.size:
            return image
        low, span = known.min(), float(np.ptp(known)) or 1.0
        with QPainter(image) as painter:
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            for number, (name, (xs, ys)) in reversed(list(enumerate(zip(chart.up, curves, strict=True)))):
                px = _EDGE + (xs - xs.min()) / (np.ptp(xs) or 1.0) * (width - 2 * _EDGE)
                py = height - _EDGE - (ys - low) / span * (height - 2 * _EDGE)
                places = [QPointF(x, y) for x, y in zip(px, py, strict=True) if y == y]
                if name in chart.dots:
                    painter.setPen(QPen(QColor(curve_color(number)), _DOT, c=Qt.PenCapStyle.RoundCap))
                    painter.drawPoints(places)
                    continue
                painter.setPen(QPen(QColor(curve_color(number)), 1.8 if number == 0 else 1.1))
                painter.drawPolyline(places)
        return image
