"""Panels of a threshold, with the area that passes as the bound moves, and of a formula, with its faults
marked in the text.
"""

from __future__ import annotations

import weakref
from collections.abc import Mapping

import numpy as np
from PySide6.QtWidgets import QComboBox, QPushButton, QVBoxLayout
from shiboken6 import isValid

from moss_step.desk.benches.further import identifier
from moss_step.desk.benches.panel import StepPanel
from moss_step.desk.chart import Handed, LineChart
from moss_step.desk.controls import FormulaControl, TextControl
from moss_step.desk.histogram import HistogramView
from moss_step.desk.parts import button, label, row, tool
from moss_step.model.chart import Chart
from moss_step.model.errors import MossError
from moss_step.model.surface import Surface
from moss_step.model.units import HECTARE
from moss_step.model.words import measured, value_text
from moss_step.science.algebra.formula import FormulaError, parse
from moss_step.science.classes.curve import threshold_curve
from moss_step.study.graph import Step

_CHART, _STEPS = 96, 256
_BOUNDS = ("at_least", "above", "at_most", "below")


class ThresholdPanel(StepPanel):
    """A threshold with the curve of what passes for every bound, which follows the pointer on the histogram
    and on itself; a click sets the bound, and the curve can be kept.
    """

    def build(self, layout: QVBoxLayout) -> None:
        """Histogram and curve above the settings."""
        self.histogram, self.chart = HistogramView(self.work), LineChart("bound", "area")
        self.chart.offer(self.work, "threshold", self._held)
        self.what = QComboBox()
        self.chart.setFixedHeight(_CHART)
        self.histogram.added.connect(self._set_bound)
        self.chart.picked.connect(self._set_bound)
        for part in (self.histogram, self.chart):
            part.pointed.connect(self._read)
        for text, column in (("Area", "area_m2"), ("Share", "share"), ("Volume", "volume_m3")):
            self.what.addItem(text, column)
        self.what.setAccessibleName("What the curve shows")
        self.what.activated.connect(lambda _: self._show_curve())
        self.said = label("", "muted")
        self.said.setAccessibleName("Reading of the curve")
        kept = tool("plus", "Keep the curve as a step", self._keep_curve)
        self._curve: tuple[object, Chart | None] = (None, None)
        layout.addWidget(self.histogram)
        layout.addWidget(self.chart)
        layout.addWidget(row(self.what, self.said, kept, grows=self.said))
        super().build(layout)

    def show_outcome(self) -> None:
        """Draw the curve of the surface chosen, and where the bounds stand."""
        super().show_outcome()
        if self._left:
            return
        drawn = self.work.picture(self._source())
        picture = drawn.surface if drawn is not None else None
        self.histogram.show_values(picture.bins if picture is not None else None, None, "")
        self.chart.show_marks([float(v) for n, v in self._numbers().items() if n in _BOUNDS])
        if picture is not None:
            self._work_out(picture.value)

    def _held(self) -> Handed | None:
        """The curve with all its columns, as they are kept."""
        chart = self._curve[1]
        return None if chart is None else (chart.columns, {n: chart.unit(n).symbol for n in chart.columns})

    def _source(self) -> str:
        return str(self._inputs["surface"].currentData() or "")

    def _work_out(self, surface: Surface) -> None:
        """Have the curve of a surface worked out, once for each side of the bound."""
        side, wanted = self._beyond(), (weakref.ref(surface), self._beyond())
        if wanted == self._curve[0]:
            self._show_curve()
            return

        def show(result: Chart | MossError) -> None:
            if isValid(self) and not self._left:
                self._curve = (wanted, None if isinstance(result, MossError) else result)
                self._show_curve()

        self.work.helper.ask(lambda: threshold_curve(surface, _STEPS, side), show)

    def _show_curve(self) -> None:
        """Draw the column that is asked for; bearings and a level ground have no curve."""
        chart, empty = self._curve[1], np.empty(0)
        if chart is None:
            self.chart.show_curve(empty, empty)
            return
        column = str(self.what.currentData())
        factor, symbol = self._told(column)
        if column in chart.columns:
            self.chart.show_curve(chart.columns["threshold"], chart.columns[column] * factor)
        else:
            self.chart.show_curve(empty, empty)  # only lengths have a volume
        across = f"{self._side().replace('_', ' ')}, {chart.unit('threshold').symbol or 'value'}"
        self.chart.show_titles(f"{across}; {symbol} that pass", "")

    def _told(self, column: str) -> tuple[float, str]:
        """By what a column is multiplied to be shown, and its symbol."""
        if column == "area_m2":
            area_unit = self.work.study.telling.area or HECTARE
            return 1.0 / area_unit.factor, area_unit.symbol
        return (100.0, "%") if column == "share" else (1.0, "m³")

    def _read(self, value: float | None) -> None:
        """Say what passes at a bound, and mark it."""
        self.chart.point_at(value)
        chart = self._curve[1]
        if value is None or chart is None:
            self.said.setText("")
            return
        parts = []
        for column in ("area_m2", "share"):
            factor, symbol = self._told(column)
            at = float(np.interp(value, chart.columns["threshold"], chart.columns[column]))
            parts.append(f"{measured(at * factor)} {symbol}")
        unit = chart.unit("threshold")
        self.said.setText(f"{value_text(value, unit)}: {', '.join(parts)}")

    def _keep_curve(self) -> None:
        """Add the curve of this surface as a step."""
        if self._source():
            inputs = {"surface": self._source()}
            self.work.add_step("threshold_curve", inputs, {"side": self._beyond()}, choose=False)

    def _beyond(self) -> str:
        """Which side of the bound counts."""
        return "below" if self._side() in ("at_most", "below") else "above"

    def _side(self) -> str:
        return next((n for n in _BOUNDS if n in self._numbers()), "at_least")

    def _numbers(self) -> Mapping[str, float]:
        result = {}
        for name in _BOUNDS:
            try:
                result[name] = float(self.settings().get(name, ""))
            except ValueError:
                continue
        return result

    def _set_bound(self, value: float) -> None:
        self.form.control(self._side(), TextControl).fill(f"{value:.4g}")


class FormulaPanel(StepPanel):
    """A formula whose faults are underlined where they stand; units that do not mix can be converted with one
    button.
    """

    def build(self, layout: QVBoxLayout) -> None:
        """The offer to convert under the settings."""
        super().build(layout)
        self.offer: QPushButton = button(
            "Convert", "Add a step that gives this surface in the other unit, and use it here", self._convert
        )
        self.offer.hide()
        layout.addWidget(self.offer)
        self._mixed: tuple[str, str] | None = None

    def show_outcome(self) -> None:
        """Mark the part of the text that is wrong."""
        super().show_outcome()
        control = self.form.control("expression", FormulaControl)
        if self._left or self.further is None:
            return
        text, fault = str(control.value() or ""), None
        if text:
            try:
                parse(text, {n: s.unit for n, s in self._surfaces().items()})
            except FormulaError as error:
                fault = error
        control.point_at(fault.start if fault else 0, fault.end if fault else 0)
        self._mixed = fault.mixed if fault else None
        self.offer.setVisible(self._mixed is not None)
        if self._mixed is not None:
            self.offer.setText(f"Use {self._mixed[0]} in {self._mixed[1].replace('_', ' ')}")
            self.offer.setAccessibleName(self.offer.text())
            self.note.show_lines(str(fault), bad=True)

    def _surfaces(self) -> dict[str, Surface]:
        names = self.further.names if self.further is not None else {}
        result = {n: self.work.outcome(i) for n, i in names.items()}
        return {n: s for n, o in result.items() if o is not None and (s := o.of(Surface)) is not None}

    def _convert(self) -> None:
        if self._mixed is None or self.further is None:
            return
        name, unit = self._mixed
        study = self.work.study
        result = study.fresh_id("convert_units")
        step = Step(
            id=result,
            kind="convert_units",
            inputs={"surface": self.further.names[name]},
            settings={"to": unit},
        )
        self.work.do(study.adding(step), "Convert units")  # it is not chosen: this panel stays
        kept = dict(self.further.names)
        fresh = identifier(f"{name} {unit}", kept)
        choices = [*self.fitting(self.kind.further), (result, self.work.study.name_of(result))]
        self.further.show_choices(choices, {**kept, fresh: result})
        self.form.control("expression", FormulaControl).rename(name, fresh)
