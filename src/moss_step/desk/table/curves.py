"""The curves of a chart: which are drawn, over what, with a reading, and handed on."""

from __future__ import annotations

import html
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
from PySide6.QtCore import Signal
from PySide6.QtWidgets import QCheckBox, QHBoxLayout, QVBoxLayout, QWidget

from moss_step.desk.chart import CHART_FILES, PlotFrame
from moss_step.desk.parts import clear, label, row, tool
from moss_step.desk.tones import tone
from moss_step.desk.work import Work
from moss_step.model.chart import Chart
from moss_step.model.telling import USUAL, Telling
from moss_step.scene.colors import DEEP, MOSS, MUTED, curve_color
from moss_step.scene.tables import cell_text, column_words

_MOST_CURVES = 6


class CurvePlot(PlotFrame):
    """Draws some curves of a chart over one value; tells where the pointer is."""

    pointed = Signal(object)
    """The value across under the pointer, or None."""

    def __init__(self) -> None:
        super().__init__()
        self.chart: Chart | None = None
        self.shown: tuple[str, ...] = ()
        self.log = (False, False)
        self._items: list[Any] = []
        self.setMinimumHeight(120)
        self.setAccessibleName("Curves")

    def furnish(self) -> None:
        """A line at the pointer."""
        self._line = self.library.InfiniteLine(0.0, pen=self.library.mkPen(tone(DEEP), width=1))
        self._line.hide()
        self.plot.addItem(self._line, ignoreBounds=True)
        self.plot.scene().sigMouseMoved.connect(self._moved)

    def show_curves(self, chart: Chart | None, shown: tuple[str, ...], log: tuple[bool, bool]) -> None:
        """Draw other curves."""
        self.chart, self.shown, self.log = chart, shown, log
        self.ask()

    def draw(self) -> None:
        """Bring the plot up to date; on a logarithmic axis what is not above 0 is left out."""
        for item in self._items:
            self.plot.removeItem(item)
        self._items = []
        if self.chart is None:
            return
        self.plot.setLogMode(*self.log)
        for number, name in enumerate(self.shown):
            x, y = self.chart.curve(name)
            kept = (
                np.isfinite(x)
                & np.isfinite(y)
                & ((x > 0) | (not self.log[0]))
                & ((y > 0) | (not self.log[1]))
            )
            color = MOSS if number == 0 else curve_color(number)
            pen = self.library.mkPen(tone(color), width=2)
            look: dict[str, Any] = {"pen": pen}
            if name in self.chart.dots:
                look = {"pen": None, "symbol": "o", "symbolSize": 6, "symbolPen": None}
                look["symbolBrush"] = tone(color)
            self._items.append(self.plot.plot(x[kept], y[kept], **look))
        titles = [_head(self.chart, self.chart.across), " · ".join(_head(self.chart, n) for n in self.shown)]
        for side, title in zip(("bottom", "left"), titles, strict=True):
            self.plot.getAxis(side).setLabel(html.escape(title), color=tone(MUTED), **{"font-size": "11px"})
        self.plot.autoRange(padding=0.03)

    def _moved(self, at: Any) -> None:
        box = self.plot.getViewBox()
        inside = box.sceneBoundingRect().contains(at) and bool(self.shown)
        self._line.setVisible(inside)
        if not inside:
            self.pointed.emit(None)
            return
        across = float(box.mapSceneToView(at).x())
        self._line.setValue(across)
        self.pointed.emit(10.0**across if self.log[0] else across)


class CurvesView(QWidget):
    """The curves of a chart result, and what of them is shown."""

    def __init__(self, work: Work) -> None:
        super().__init__()
        self.work = work
        self.plot = CurvePlot()
        self.plot.pointed.connect(self._read)
        self.said = label("", "muted")
        self.said.setAccessibleName("Reading of the curves")
        self._ticks = QWidget()
        self._tick_row = QHBoxLayout(self._ticks)
        self._tick_row.setContentsMargins(0, 0, 0, 0)
        self.log_across, self.log_up = self._tick("log across"), self._tick("log up")
        layout = QVBoxLayout(self)
        layout.setContentsMargins(10, 0, 10, 6)
        layout.setSpacing(2)
        layout.addWidget(
            row(
                self._ticks,
                self.log_across,
                self.log_up,
                1,
                self.said,
                tool("download-simple", "Hand the curves on: CSV, PNG or SVG", self._ask),
            )
        )
        layout.addWidget(self.plot, 1)
        self._chart: Chart | None = None
        self._converted: Chart | None = None
        self._shown: tuple[object, object] = (None, USUAL)
        self._boxes: dict[str, QCheckBox] = {}

    def _tick(self, text: str) -> QCheckBox:
        result = QCheckBox(text)
        result.setAccessibleName(text)
        result.toggled.connect(lambda _: self._show())
        return result

    def show_chart(self, chart: Chart | None, telling: Telling = USUAL) -> None:
        """Show another chart, with its own curves drawn, told in some units; files keep their own."""
        if (chart, telling) == self._shown:
            return
        self._shown = (chart, telling)
        self._chart, self._converted = chart, None if chart is None else _converted(chart, telling)
        clear(self._tick_row)
        self._boxes = {}
        for name in _curves(chart):
            box = QCheckBox("" if self._converted is None else _head(self._converted, name))
            box.setAccessibleName(f"Curve: {box.text()}")
            box.setChecked(chart is not None and name in chart.up)
            box.toggled.connect(lambda _: self._show())
            self._boxes[name] = box
            self._tick_row.addWidget(box)
        self._show()

    @property
    def shown(self) -> tuple[str, ...]:
        """Names of the curves that are drawn."""
        return tuple(n for n, box in self._boxes.items() if box.isChecked())

    def _show(self) -> None:
        self.plot.show_curves(
            self._converted, self.shown, (self.log_across.isChecked(), self.log_up.isChecked())
        )

    def _read(self, across: float | None) -> None:
        """Say what the curves hold at a value."""
        chart = self._converted
        if chart is None or across is None:
            self.said.setText("")
            return
        parts = [f"{column_words(chart.across)} {_value(across, chart, chart.across)}"]
        for name in self.shown:
            x, y = chart.curve(name)
            order = np.argsort(x, kind="stable")
            at = float(np.interp(across, x[order], y[order]))
            parts.append(
                f"{column_words(name, chart.unit(name).symbol).split(',')[0]} {_value(at, chart, name)}"
            )
        self.said.setText("   ".join(parts))

    def _ask(self) -> None:
        path = self.work.folder.ask_save(self, "Hand the curves on", "curves.csv", CHART_FILES, ".csv")
        if path is not None:
            self.write(path)

    def write(self, path: Path) -> None:
        """Write the curves; the ending chooses numbers, a picture, or lines."""
        if self._chart is not None:
            chart = self._chart
            symbols = {n: chart.unit(n).symbol for n in chart.columns}
            self.plot.hand_on(self.work, path, chart.columns, symbols)


def _curves(chart: Chart | None) -> list[str]:
    """Columns of numbers that can be drawn over the value across, the chart's own first."""
    if chart is None:
        return []
    others = [
        n for n, v in chart.columns.items() if v.dtype.kind in "iuf" and n not in (chart.across, *chart.up)
    ]
    return [*chart.up, *others][:_MOST_CURVES]


def _converted(chart: Chart, telling: Telling) -> Chart:
    """The same curves with lengths and areas in other units."""
    factors = {n: telling.factor(chart.unit(n)) for n in chart.columns}
    columns = {n: v if factors[n] == 1.0 else v * factors[n] for n, v in chart.columns.items()}
    return replace(chart, columns=columns, units={n: telling.unit(u) for n, u in chart.units.items()})


def _head(chart: Chart, name: str) -> str:
    return column_words(name, chart.unit(name).symbol)


def _value(value: float, chart: Chart, name: str) -> str:
    symbol = chart.unit(name).symbol
    return f"{cell_text(value, symbol)} {symbol}".strip()
