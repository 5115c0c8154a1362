"""A line chart with a readable look, for figures that change along one value."""

from __future__ import annotations

import html
from collections.abc import Sequence
from typing import Any

import numpy as np
from PySide6.QtCore import Signal
from PySide6.QtWidgets import QVBoxLayout, QWidget

from moss_step.desk.theme import CARD, DEEP, INK, LICHEN, MOSS, MUTED, font


class LineChart(QWidget):
    """One curve over a horizontal value, and marks where settings stand; a click tells the value."""

    picked = Signal(float)

    def __init__(self, across: str, up: str) -> None:
        super().__init__()
        import pyqtgraph  # slow to load, and few views need it

        self._plots = pyqtgraph
        self.across, self.up = across, up
        self.curve: tuple[np.ndarray, np.ndarray] = (np.empty(0), np.empty(0))
        self.marks: list[float] = []
        self.plot: Any = pyqtgraph.PlotWidget(background=CARD)
        self.plot.setMenuEnabled(False)
        self.plot.setMouseEnabled(False, False)
        self.plot.hideButtons()
        for side, title in (("bottom", across), ("left", up)):
            axis = self.plot.getAxis(side)
            axis.setPen(MUTED)
            axis.setTextPen(INK)
            axis.setStyle(tickFont=font(11))
            axis.enableAutoSIPrefix(False)
            axis.setLabel(html.escape(title), color=MUTED, **{"font-size": "11px"})
        self._curve = self.plot.plot(pen=pyqtgraph.mkPen(MOSS, width=2), fillLevel=0.0, brush=(76, 107, 52, 40))
        self._lines: list[Any] = []
        self.plot.scene().sigMouseClicked.connect(self._clicked)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addWidget(self.plot)
        self.setMinimumHeight(150)
        self.setAccessibleName(f"Chart of {up} against {across}")

    def show_curve(self, x: np.ndarray, y: np.ndarray) -> None:
        """Show another curve."""
        self.curve = (x, y)
        self._curve.setData(x, y)
        self.plot.autoRange(padding=0.03)

    def show_bars(self, edges: np.ndarray, counts: np.ndarray) -> None:
        """Show counts between edges as steps."""
        self.show_curve(np.repeat(edges, 2)[1:-1], np.repeat(counts, 2))

    def show_titles(self, across: str, up: str) -> None:
        """Say what the axes are."""
        for side, title in (("bottom", across), ("left", up)):
            self.plot.getAxis(side).setLabel(html.escape(title), color=MUTED, **{"font-size": "11px"})

    def show_marks(self, values: Sequence[float]) -> None:
        """Draw upright lines at values."""
        self.marks = list(values)
        for line in self._lines:
            self.plot.removeItem(line)
        self._lines = []
        for value in values:
            for color, width in ((DEEP, 4), (LICHEN, 2)):
                line = self._plots.InfiniteLine(value, pen=self._plots.mkPen(color, width=width))
                self.plot.addItem(line)
                self._lines.append(line)

    def _clicked(self, event: Any) -> None:
        place = self.plot.getViewBox().mapSceneToView(event.scenePos())
        self.picked.emit(float(place.x()))
