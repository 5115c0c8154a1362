"""The surface bench: surfaces between measured places, and levels that follow a slider."""

from __future__ import annotations

import numpy as np
from PySide6.QtWidgets import QVBoxLayout

from moss_step.desk.benches.kriging import KrigingPanel
from moss_step.desk.benches.panel import StepPanel
from moss_step.desk.benches.place import PlacePanel
from moss_step.desk.benches.steps import StepBench
from moss_step.desk.chart import LineChart
from moss_step.desk.controls import SliderControl
from moss_step.desk.parts import button, column, label, lent_by
from moss_step.desk.plan.live import Live, Preview, mask_veil
from moss_step.model.errors import MossError
from moss_step.model.outcome import Outcome
from moss_step.model.surface import Surface
from moss_step.model.table import Table
from moss_step.model.words import measured, value_text
from moss_step.science.interpolate.levels import Levels, levels_of
from moss_step.steps.catalogue import step_kind

_LEVELS = 400
_ACROSS = 1400
"""Levels of the curve that is read while the slider moves, and the most cells of the veil across."""


class LevelPanel(PlacePanel):
    """What lies under a level that follows a slider, with its volume and area."""

    def build(self, layout: QVBoxLayout) -> None:
        """Watch the slider; it runs over the heights of the surface."""
        super().build(layout)
        self._curve: tuple[Surface, bool, Levels] | None = None
        self._spanned: Surface | None = None
        self.level = self.form.control("level", SliderControl)
        self.level.sliding.connect(self.slide)
        self.chart = LineChart("level", "volume, m³")
        self.chart.dragged.connect(self._on_dragged)
        head = label("Volume by level: drag the line", "head")
        self.whole = lent_by(self, column([head, self.chart], gap=4, margins=(14, 6, 10, 6)))
        layout.addWidget(
            button("Drag the level on its curve", "Open the volume by level below the plan", self.open)
        )
        self._span()

    def open(self) -> None:
        """Show the curve under the plan."""
        self.drawer_wanted.emit(self.whole)
        given = self.settings().get("level")
        surface = self.ground()
        if surface is not None and surface.range is not None:
            self.slide(float(given) if given is not None else sum(surface.range) / 2.0)

    def _on_dragged(self, level: float, ended: bool) -> None:
        """The line on the curve is the level."""
        if ended:
            self.form.show_some(["level"], {"level": float(f"{level:.6g}")})
            self.update_draft()
        else:
            self.slide(level)

    def update_draft(self) -> None:
        """The slider runs over the heights of the surface that is chosen now."""
        self._span()
        super().update_draft()

    def show_outcome(self) -> None:
        """The surface may have come with it."""
        self._span()
        super().show_outcome()

    def _span(self) -> None:
        surface = self.ground()
        if surface is None or surface is self._spanned or surface.range is None:
            return
        self._spanned = surface
        low, high = surface.range
        self.level.set_range(low, high if high > low else low + 1.0)

    def ground(self) -> Surface | None:
        """The surface chosen, when it is there."""
        outcome = self.work.outcome(str(self._inputs["surface"].currentData() or ""))
        return None if outcome is None else outcome.of(Surface)

    def slide(self, level: float) -> None:
        """Veil what lies on the side that is asked for."""
        surface, below = self.ground(), self.settings().get("side", "below") == "below"
        if surface is None:
            return
        known = self._curve is not None and self._curve[0] is surface and self._curve[1] == below
        self.work.follower.ask(
            lambda: self._under(surface, level, below), self.draw, 0 if known else surface.values.size
        )

    def _under(self, surface: Surface, level: float, below: bool) -> Preview:
        curve = self._curve
        if curve is None or curve[0] is not surface or curve[1] != below:
            self._curve = curve = surface, below, levels_of(surface, below, _LEVELS)
        held = curve[2]
        area, volume = (float(np.interp(level, held.level, v)) for v in (held.area, held.volume))
        step = max(1, max(surface.values.shape) // _ACROSS)
        some = surface.values[::step, ::step]
        veil = mask_veil(some < level if below else some > level, surface.frame)
        side = "below" if below else "above"
        said = f"{measured(volume)} m³ and {self.work.study.telling.area_text(area)} {side}"
        return Preview(f"{said} {value_text(level, surface.unit)}", Live((), veil, level=level))

    def draw(self, answer: Preview | MossError) -> None:
        """Draw what lies under the level, with the curve that says how much that is."""
        super().draw(answer)
        curve, surface = self._curve, self.ground()
        if self._left or isinstance(answer, MossError) or curve is None or surface is None:
            return
        self.chart.show_titles(f"level, {surface.unit.symbol}", "volume, m³")
        self.chart.show_curve(curve[2].level, curve[2].volume)
        if answer.live.level is not None:
            self.chart.show_handle(answer.live.level)


class MethodsPanel(StepPanel):
    """Which method foretells best, with one click to take it."""

    def build(self, layout: QVBoxLayout) -> None:
        """The button that takes the best method; it waits for the comparison."""
        super().build(layout)
        self.best = ""
        self.take_button = button(
            "Interpolate by the best", "Keep a surface by it, with these settings", self.take
        )
        self.take_button.setEnabled(False)
        layout.addWidget(self.take_button)

    def show_remarks(self, outcome: Outcome) -> None:
        """The best stands first in the table."""
        super().show_remarks(outcome)
        table = outcome.of(Table)
        if table is not None and len(table):
            self.best = str(table.columns["method"][0])
            text = f"Interpolate by {self.best.replace('_', ' ')}"
            self.take_button.setText(text)
            self.take_button.setAccessibleName(text)
            self.take_button.setEnabled(True)

    def take(self) -> None:
        """Keep a surface by the best method, from the same places and with the same settings."""
        step, wrong = self.step_as_set()
        if step is None:
            self.note.show_lines(wrong, bad=True)
            return
        kind = step_kind("interpolate")
        known = kind.settings.model_fields
        settings = {n: v for n, v in step.settings.items() if n in known} | {"method": self.best}
        names = {spec.name for spec in kind.inputs}
        self.work.set_draft(None)
        self.work.add_step(kind.kind, {n: ref for n, ref in step.inputs.items() if n in names}, settings)


class SurfaceBench(StepBench):
    """Surfaces between places, and levels."""

    name = "surface"
    panels = {"storage": LevelPanel, "interpolate": KrigingPanel, "compare_methods": MethodsPanel}
