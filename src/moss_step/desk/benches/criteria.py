"""Panels of a threshold, with the area that passes as the bound moves, and of a formula, with its faults
marked in the text.
"""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from PySide6.QtWidgets import QPushButton, QVBoxLayout

from moss_step.desk.benches.further import identifier
from moss_step.desk.benches.panel import StepPanel
from moss_step.desk.chart import LineChart
from moss_step.desk.controls import FormulaControl, TextControl
from moss_step.desk.parts import button
from moss_step.model.surface import Surface
from moss_step.model.units import HECTARE
from moss_step.science.algebra.formula import FormulaError, parse
from moss_step.study.graph import Step

_BOUNDS = ("at_least", "above", "at_most", "below")


class ThresholdPanel(StepPanel):
    """A threshold with a chart of the area that passes for every bound; a click on it sets the bound."""

    def build(self, layout: QVBoxLayout) -> None:
        """The chart above the settings."""
        self.chart = LineChart("bound", "ha that pass")
        self.chart.setFixedHeight(134)
        self.chart.picked.connect(self._set_bound)
        layout.addWidget(self.chart)
        super().build(layout)

    def show_outcome(self) -> None:
        """Draw the curve of the surface chosen, and where the bounds stand."""
        super().show_outcome()
        if self._left:
            return
        drawn = self.work.picture(str(self._inputs["surface"].currentData() or ""))
        picture = drawn.surface if drawn is not None else None
        if picture is not None and picture.bins is not None:
            surface, counts = picture.value, picture.bins.counts
            told = self.work.study.telling.area or HECTARE
            cell = surface.area / max(surface.valid_count, 1) / told.factor
            passed = (
                np.cumsum(counts) if self._side() in ("at_most", "below") else np.cumsum(counts[::-1])[::-1]
            )
            edges = picture.bins.edges
            self.chart.show_curve(
                edges[1:] if self._side() in ("at_most", "below") else edges[:-1], passed * cell
            )
            across = f"{self._side().replace('_', ' ')}, {surface.unit.symbol or 'value'}"
            self.chart.show_titles(across, f"{told.symbol} that pass")
        self.chart.show_marks([float(v) for n, v in self._numbers().items() if n in _BOUNDS])

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
