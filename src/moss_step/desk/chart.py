"""A line chart with a readable look, for figures that change along one value."""

from __future__ import annotations

import html
import sys
import threading
from collections.abc import Callable, Mapping, Sequence
from functools import partial
from importlib import import_module
from pathlib import Path
from typing import Any

import numpy as np
from PySide6.QtCore import QPoint, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QContextMenuEvent, QImage, QPainter, QShowEvent
from PySide6.QtSvg import QSvgGenerator
from PySide6.QtWidgets import QMenu, QVBoxLayout, QWidget

from moss_step.desk.parts import Later
from moss_step.desk.png import write_png
from moss_step.desk.theme import font
from moss_step.desk.tones import shade, tone
from moss_step.desk.work import Work
from moss_step.formats.dictionary import write_columns
from moss_step.formats.whole import whole_file
from moss_step.model.fields import column_name
from moss_step.scene.colors import CARD, DEEP, INK, LICHEN, MOSS, MUTED

CHART_FILES = "CSV, PNG, SVG (*.csv *.png *.svg)"
_SHARP = 2
_LIBRARY, _LOOK_AGAIN = "pyqtgraph", 30
"""The library of charts, and milliseconds between two looks whether it is there."""


Handed = tuple[Mapping[str, np.ndarray], Mapping[str, str]]
"""Columns of a chart by name, and their units."""


class DrawnChart(QWidget):
    """A chart that can be handed on as numbers, as a picture, or as lines and letters."""

    _offer: tuple[Work, str, Callable[[], Handed | None]] | None = None

    def offer(self, work: Work, name: str, columns: Callable[[], Handed | None]) -> None:
        """Let a right click hand it on, as a file of some name, with what ``columns`` gives as numbers."""
        self._offer = (work, name, columns)

    def menu(self) -> QMenu:
        """What can be done with it beside looking."""
        menu = QMenu(self)
        there = self._offer is not None and self._offer[2]() is not None
        menu.addAction("Hand on: CSV, PNG or SVG …", self._ask_file).setEnabled(there)
        return menu

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        """Open the menu; it stands open while the window goes on."""
        if self._offer is None:
            super().contextMenuEvent(event)
            return
        menu = self.menu()
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        menu.popup(event.globalPos())

    def _ask_file(self) -> None:
        if self._offer is not None:
            work, name, _ = self._offer
            path = work.folder.ask_save(self, "Hand the chart on", f"{name}.csv", CHART_FILES, ".csv")
            if path is not None:
                self.write(path)

    def write(self, path: Path) -> None:
        """Write what is offered; the ending chooses numbers, a picture, or lines and letters."""
        if self._offer is not None and (held := self._offer[2]()) is not None:
            self.hand_on(self._offer[0], path, *held)

    def image(self) -> QImage:
        """The chart as a picture, twice as fine as on the screen."""
        image = QImage(self.size() * _SHARP, QImage.Format.Format_RGB32)
        image.setDevicePixelRatio(_SHARP)
        self.render(image)
        return image

    def draw_lines(self, painter: QPainter) -> None:
        """Draw it with a painter of lines and letters."""
        self.render(painter, QPoint())

    def write_svg(self, path: Path) -> None:
        """Write the chart as lines and letters, whole or not at all."""
        with whole_file(path) as part:
            writer = QSvgGenerator()
            writer.setFileName(str(part))
            writer.setSize(QSize(self.width(), self.height()))
            writer.setViewBox(QRectF(0, 0, self.width(), self.height()))
            writer.setTitle("Chart")
            with QPainter(writer) as painter:
                self.draw_lines(painter)

    def hand_on(
        self, work: Work, path: Path, columns: Mapping[str, np.ndarray], symbols: Mapping[str, str]
    ) -> None:
        """Write what is drawn; the ending chooses numbers, a picture, or lines and letters."""
        ending = path.suffix.lower()
        if ending == ".svg":
            self.write_svg(path)
            work.message.emit(f"Written: {path.name}.", False)
        elif ending == ".png":
            image = self.image()
            work.write(partial(write_png, image, path), path)
        else:
            work.write(lambda: write_columns(path, columns, symbols), path)


class PlotFrame(DrawnChart):
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

    def draw_lines(self, painter: QPainter) -> None:
        """Draw the plot's own scene: lines stay lines."""
        self.plot.scene().render(painter)

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
    pointed = Signal(object)
    """The value across under the pointer, or None."""
    dragged = Signal(float, bool)
    """Where the upright line was dragged that can be, and whether it was let go."""

    def __init__(self, across: str, up: str) -> None:
        super().__init__()
        self.across, self.up = across, up
        self.curve: tuple[np.ndarray, np.ndarray] = (np.empty(0), np.empty(0))
        self.marks: list[float] = []
        self.at: float | None = None
        self.handle: float | None = None
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
        self._here = self.library.InfiniteLine(0.0, pen=self.library.mkPen(tone(INK), width=1))
        self.plot.addItem(self._here, ignoreBounds=True)
        grip, held = (self.library.mkPen(tone(color), width=5) for color in (LICHEN, DEEP))
        self._grip = self.library.InfiniteLine(0.0, pen=grip, hoverPen=held, movable=True)
        self._grip.hide()
        self._grip.sigDragged.connect(lambda line: self._pulled(float(line.value()), False))
        self._grip.sigPositionChangeFinished.connect(lambda line: self._pulled(float(line.value()), True))
        self.plot.addItem(self._grip, ignoreBounds=True)
        self.plot.scene().sigMouseClicked.connect(self._clicked)
        self.plot.scene().sigMouseMoved.connect(self._moved)

    def draw(self) -> None:
        """Bring the plot up to date."""
        for side, title in (("bottom", self.across), ("left", self.up)):
            self.plot.getAxis(side).setLabel(html.escape(title), color=tone(MUTED), **{"font-size": "11px"})
        if self.curve is not self._drawn:
            self._drawn = self.curve
            self._curve.setData(*self.curve)
            self.plot.autoRange(padding=0.03)
        self._here.setVisible(self.at is not None)
        if self.at is not None:
            self._here.setValue(self.at)
        self._grip.setVisible(self.handle is not None)
        if self.handle is not None:
            self._grip.setValue(self.handle)
        for line in self._lines:
            self.plot.removeItem(line)
        self._lines = []
        for value in self.marks:
            for color, width in ((DEEP, 4), (LICHEN, 2)):
                line = self.library.InfiniteLine(value, pen=self.library.mkPen(tone(color), width=width))
                self.plot.addItem(line)
                self._lines.append(line)

    def held(self) -> Handed | None:
        """The points of the curve as a table."""
        across, up = ((t.partition(",")[0], t.partition(", ")[2]) for t in (self.across, self.up))
        names = column_name(across[0]), column_name(up[0])
        if not self.curve[0].size or names[0] == names[1]:
            return None
        return dict(zip(names, self.curve, strict=True)), {names[0]: across[1], names[1]: up[1]}

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

    def point_at(self, value: float | None) -> None:
        """Draw a thin line at a value, or none."""
        if value != self.at:
            self.at = value
            self.ask()

    def show_handle(self, value: float | None) -> None:
        """Draw an upright line that can be dragged at a value, or none."""
        if value != self.handle:
            self.handle = value
            self.ask()

    def _pulled(self, value: float, ended: bool) -> None:
        low, high = float(self.curve[0].min()), float(self.curve[0].max())
        self.handle = min(max(value, low), high)
        self.dragged.emit(self.handle, ended)

    def show_marks(self, values: Sequence[float]) -> None:
        """Draw upright lines at values."""
        if list(values) != self.marks:
            self.marks = list(values)
            self.ask()

    def _moved(self, place: Any) -> None:
        box = self.plot.getViewBox()
        inside = box.sceneBoundingRect().contains(place)
        self.pointed.emit(float(box.mapSceneToView(place).x()) if inside else None)

    def _clicked(self, event: Any) -> None:
        place = self.plot.getViewBox().mapSceneToView(event.scenePos())
        self.picked.emit(float(place.x()))
