"""A line chart with a readable look, for figures that change along one value."""

from __future__ import annotations

import html
from collections.abc import Sequence
from typing import Any

import numpy as np
from PySide6.QtCore import Signal
from PySide6.QtWidgets import QVBoxLayout, QWidget

from moss_step.desk.parts import Later
from moss_step.desk.theme import font
from moss_step.scene.colors import CARD, DEEP, INK, LICHEN, MOSS, MUTED, curve_color


class LineChart(QWidget):
    """A curve over a horizontal value, others beside it, and marks where settings stand; a click tells the
    value.
    """

    picked = Signal(float)

    def __init__(self, across: str, up: str) -> None:
        super().__init__()
        self.across, self.up = across, up
        self.curve: tuple[np.ndarray, np.ndarray] = (np.empty(0), np.empty(0))
        self.filled = True
        self.others: Sequence[tuple[np.ndarray, np.ndarray]] = ()
        self.marks: list[float] = []
        self.plot: Any = None
        self._lines: list[Any] = []
        self._beside: list[Any] = []
        self._drawn: tuple[np.ndarray, np.ndarray] | None = None
        self._later = Later(
            self._draw, self
        )  # the plot takes a while to make, and many changes are drawn once
        self._holder = QVBoxLayout(self)
        self._holder.setContentsMargins(0, 0, 0, 0)
        self.setMinimumHeight(150)
        self.setAccessibleName(f"Chart of {up} against {across}")
        self._later.ask()

    def _make_plot(self) -> None:
        import pyqtgraph  # slow to load, and few views need it

        self._plots = pyqtgraph
        self.plot = pyqtgraph.PlotWidget(background=CARD)
        self.plot.setMenuEnabled(False)
        self.plot.setMouseEnabled(False, False)
        self.plot.hideButtons()
        for side in ("bottom", "left"):
            axis = self.plot.getAxis(side)
            axis.setPen(MUTED)
            axis.setTextPen(INK)
            axis.setStyle(tickFont=font(11))
            axis.enableAutoSIPrefix(False)
        self._curve = self.plot.plot(pen=pyqtgraph.mkPen(MOSS, width=2), brush=(76, 107, 52, 40))
        self._curve.setZValue(1)  # above those beside it
        self.plot.scene().sigMouseClicked.connect(self._clicked)
        self._holder.addWidget(self.plot)

    def _draw(self) -> None:
        """Bring the plot up to date."""
        if self.plot is None:
            self._make_plot()
        for side, title in (("bottom", self.across), ("left", self.up)):
            self.plot.getAxis(side).setLabel(html.escape(title), color=MUTED, **{"font-size": "11px"})
        if self.curve is not self._drawn:
            self._drawn = self.curve
            self._curve.setFillLevel(0.0 if self.filled else None)
            self._curve.setData(*self.curve)
            for item in self._beside:
                self.plot.removeItem(item)
            pens = [
                self._plots.mkPen(curve_color(number), width=1.4) for number in range(1, len(self.others) + 1)
            ]
            self._beside = [
                self.plot.plot(x, y, pen=pen, connect="finite")
                for (x, y), pen in zip(self.others, pens, strict=True)
            ]
            self.plot.autoRange(padding=0.03)
        for line in self._lines:
            self.plot.removeItem(line)
        self._lines = []
        for value in self.marks:
            for color, width in ((DEEP, 4), (LICHEN, 2)):
                line = self._plots.InfiniteLine(value, pen=self._plots.mkPen(color, width=width))
                self.plot.addItem(line)
                self._lines.append(line)

    def show_curve(
        self, x: np.ndarray, y: np.ndarray, others: Sequence[tuple[np.ndarray, np.ndarray]] | None = None
    ) -> None:
        """Show another curve, filled down to 0; or with ``others`` as lines beside it, each as high as
        it is.
        """
        filled, others = others is None, others or ()
        if (
            filled != self.filled
            or not (np.array_equal(x, self.curve[0]) and np.array_equal(y, self.curve[1]))
            or others
            or self.others
        ):
            self.curve, self.others, self.filled = (x, y), others, filled
            self._later.ask()

    def show_bars(self, edges: np.ndarray, counts: np.ndarray) -> None:
        """Show counts between edges as steps."""
        self.show_curve(np.repeat(edges, 2)[1:-1], np.repeat(counts, 2))

    def show_titles(self, across: str, up: str) -> None:
        """Say what the axes are."""
        if (across, up) != (self.across, self.up):
            self.across, self.up = across, up
            self._later.ask()

    def show_marks(self, values: Sequence[float]) -> None:
        """Draw upright lines at values."""
        if list(values) != self.marks:
            self.marks = list(values)
            self._later.ask()

    def _clicked(self, event: Any) -> None:
        place = self.plot.getViewBox().mapSceneToView(event.scenePos())
        self.picked.emit(float(place.x()))
