"""Points in the section, drawn colour by colour, and a lasso that is drawn around some of them."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
import shapely
from PySide6.QtCore import QEvent, QObject, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QMouseEvent, QPainter, QPen, QPolygonF

from moss_step.desk.tones import tone
from moss_step.scene.colors import OCHRE
from moss_step.scene.corridor import Beside

_LARGE, _SMALL, _MANY = 4.0, 2.2, 8_000
"""Pixels of a point where there are few, where there are many, and how many these are."""
_MOST_COLORS, _CORNERS, _FINE = 300, 3, 0.01
"""Colours that are told apart, least corners of a lasso, and the share of it that one must stand out by."""


def points_item(library: Any, drawn: Beside) -> Any:
    """An item of the chart library that draws points: one call for each of their colours."""
    kept = drawn.colors != 0
    along, heights, colors = drawn.along[kept], drawn.heights[kept], _few(drawn.colors[kept])
    groups = [(c, _polygon(along[colors == c], heights[colors == c])) for c in np.unique(colors)]
    size = _LARGE if len(along) < _MANY else _SMALL

    class Points(library.GraphicsObject):  # the library is loaded late
        """Points in the coordinates of the chart."""

        def boundingRect(self) -> QRectF:
            """Where they lie."""
            if not len(along):
                return QRectF()
            low, high = float(heights.min()), float(heights.max())
            return QRectF(float(along.min()), low, float(np.ptp(along)), high - low)

        def paint(self, painter: QPainter, *_: object) -> None:
            """Draw them, each colour at once."""
            for color, places in groups:
                pen = QPen(QColor.fromRgba(int(color)), size)
                pen.setCosmetic(True)
                pen.setCapStyle(Qt.PenCapStyle.RoundCap)
                painter.setPen(pen)
                painter.drawPoints(places)

    return Points()


def _few(colors: np.ndarray) -> np.ndarray:
    """The colours; of very many, those that differ in the first four bits of a band."""
    many = len(np.unique(colors)) > _MOST_COLORS
    return colors & np.uint32(0xFFF0F0F0) if many else colors


def _polygon(x: np.ndarray, y: np.ndarray) -> QPolygonF:
    return QPolygonF([QPointF(float(a), float(b)) for a, b in zip(x, y, strict=True)])


class Lasso(QObject):
    """Draws around points of a plot while it is on: press, pull around them, let go."""

    drawn = Signal(object)
    """Its corners: metres along the line, and heights."""

    def __init__(self, library: Any, plot: Any) -> None:
        super().__init__(plot)
        self._plot, self.on = plot, False
        self._corners: list[tuple[float, float]] = []
        self._item = library.PlotDataItem(pen=library.mkPen(tone(OCHRE), width=2))
        self._item.setZValue(6)
        plot.addItem(self._item, ignoreBounds=True)
        plot.viewport().installEventFilter(self)

    def show(self, corners: Sequence[tuple[float, float]]) -> None:
        """Show corners, closed; none for nothing."""
        places = np.array([*corners, *corners[:1]]).reshape(-1, 2)
        self._item.setData(places[:, 0], places[:, 1])

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """Take the mouse while it is on."""
        if not self.on or not isinstance(event, QMouseEvent):
            return False
        kind = event.type()
        if kind == QEvent.Type.MouseButtonPress and event.button() == Qt.MouseButton.LeftButton:
            self._corners = [self._place(event)]
            return True
        if kind == QEvent.Type.MouseMove and self._corners:
            self._corners.append(self._place(event))
            self.show(self._corners)
            return True
        if kind == QEvent.Type.MouseButtonRelease and self._corners:
            corners, self._corners = _thinned(self._corners), []
            self.show(corners)
            if len(corners) >= _CORNERS:
                self.drawn.emit(corners)
            return True
        return False

    def _place(self, event: QMouseEvent) -> tuple[float, float]:
        at = self._plot.getViewBox().mapSceneToView(self._plot.mapToScene(event.position().toPoint()))
        return float(at.x()), float(at.y())


def _thinned(corners: list[tuple[float, float]]) -> list[tuple[float, float]]:
    """Corners without those that hardly bend the line, in numbers of four digits."""
    places = np.array(corners)
    span = np.maximum(np.ptp(places, axis=0), 1e-9)
    line = shapely.simplify(shapely.LineString(places / span), _FINE) if len(places) > 1 else None
    kept = places if line is None else shapely.get_coordinates(line) * span
    return [(round(float(x), 2), round(float(y), 3)) for x, y in kept]
