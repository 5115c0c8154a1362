"""A line chart with a readable look, for figures that change along one value."""

from __future__ import annotations

import html
import sys
import threading
from collections.abc import Sequence
from importlib import import_module
from typing import Any

import numpy as np
from PySide6.QtCore import Signal
from PySide6.QtGui import QShowEvent
from PySide6.QtWidgets import QVBoxLayout, QWidget

from moss_step.desk.parts import Later
from moss_step.desk.theme import font
from moss_step.desk.tones import shade, tone
from moss_step.scene.colors import CARD, DEEP, INK, LICHEN, MOSS, MUTED

_LIBRARY, _LOOK_AGAIN = "pyqtgraph", 30
"""The library of charts, and milliseconds between two looks whether it is there."""


class PlotFrame(QWidget):
    """Holds a plot of the chart library in our look; ``draw`` brings it up to date, once for many changes.

    The library takes a while to load, and few views need it: it is loaded beside the window's thread.
    """

    def __init__(self) -> None:
        super().__init__()
        self.plot: Any = None
        self.library: Any = None
        self._loading: threading.Thread | None = None
        self._later = Later(self._bring_up, self)
        self._holder = QVBoxLayout(self)
        self._holder.setContentsMargins(0, 0, 0, 0)

    def ask(self) -> None:
        """Have it drawn at the window's next turn."""
        self._later.start(0)

    def draw(self) -> None:
        """Bring the plot up to date."""
        raise NotImplementedError

    def furnish(self) -> None:
        """Put what it draws into a plot that was just made."""

    def showEvent(self, event: QShowEvent) -> None:
        """A plot is made when it is first seen: it takes a while."""
        super().showEvent(event)
        self.ask()

    def _bring_up(self) -> None:
        if not self.isVisible():
            return
        if self.plot is None and not self._loaded():
            self._later.start(_LOOK_AGAIN)
            return
        if self.plot is None:
            self._make_plot()
        self.draw()

    def _loaded(self) -> bool:
        """Whether the library is there; begins to load it when nobody did."""
        if self._loading is None and _LIBRARY not in sys.modules:
            self._loading = threading.Thread(target=import_module, args=(_LIBRARY,))
            self._loading.start()
        return _LIBRARY in sys.modules and not (self._loading is not None and self._loading.is_alive())

    def _make_plot(self) -> None:
        self.library = import_module(_LIBRARY)
        self.plot = self.library.PlotWidget(background=tone(CARD))
        self.plot.setMenuEnabled(False)
        self.plot.setMouseEnabled(False, False)
        self.plot.hideButtons()
        for side in ("bottom", "left"):
            axis = self.plot.getAxis(side)
            axis.setPen(tone(MUTED))
            axis.setTextPen(tone(INK))
            axis.setStyle(tickFont=font(11))
            axis.enableAutoSIPrefix(False)
        self.furnish()
        self._holder.addWidget(self.plot)


class LineChart(PlotFrame):
    """A curve over a horizontal value, filled down to 0, and marks where settings stand; a click tells the
    value.
    """

    picked = Signal(float)

    def __init__(self, across: str, up: str) -> None:
        super().__init__()
        self.across, self.up = across, up
        self.curve: tuple[np.ndarray, np.ndarray] = (np.empty(0), np.empty(0))
        self.marks: list[float] = []
        self._lines: list[Any] = []
        self._drawn: tuple[np.ndarray, np.ndarray] | None = None
        self.setMinimumHeight(150)
        self.setAccessibleName(f"Chart of {up} against {across}")
        self.ask()

    def furnish(self) -> None:
        """The curve, and a click that is told."""
        pen, fill = self.library.mkPen(tone(MOSS), width=2), shade(MOSS)
        fill.setAlpha(40)
        self._curve = self.plot.plot(pen=pen, brush=fill, fillLevel=0.0)
        self.plot.scene().sigMouseClicked.connect(self._clicked)

    def draw(self) -> None:
        """Bring the plot up to date."""
        for side, title in (("bottom", self.across), ("left", self.up)):
            self.plot.getAxis(side).setLabel(html.escape(title), color=tone(MUTED), **{"font-size": "11px"})
        if self.curve is not self._drawn:
            self._drawn = self.curve
            self._curve.setData(*self.curve)
            self.plot.autoRange(padding=0.03)
        for line in self._lines:
            self.plot.removeItem(line)
        self._lines = []
        for value in self.marks:
            for color, width in ((DEEP, 4), (LICHEN, 2)):
                line = self.library.InfiniteLine(value, pen=self.library.mkPen(tone(color), width=width))
                self.plot.addItem(line)
                self._lines.append(line)

    def show_curve(self, x: np.ndarray, y: np.ndarray) -> None:
        """Show another curve."""
        if not (np.array_equal(x, self.curve[0]) and np.array_equal(y, self.curve[1])):
            self.curve = (x, y)
            self.ask()

    def show_bars(self, edges: np.ndarray, counts: np.ndarray) -> None:
        """Show counts between edges as steps."""
        self.show_curve(np.repeat(edges, 2)[1:-1], np.repeat(counts, 2))

    def show_titles(self, across: str, up: str) -> None:
        """Say what the axes are."""
        if (across, up) != (self.across, self.up):
            self.across, self.up = across, up
            self.ask()

    def show_marks(self, values: Sequence[float]) -> None:
        """Draw upright lines at values."""
        if list(values) != self.marks:
            self.marks = list(values)
            self.ask()

    def _clicked(self, event: Any) -> None:
        place = self.plot.getViewBox().mapSceneToView(event.scenePos())
        self.picked.emit(float(place.x()))
