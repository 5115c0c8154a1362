"""The surface bench: surfaces between measured places, and levels that follow a slider."""

from __future__ import annotations

import numpy as np
from PySide6.QtWidgets import QVBoxLayout

from moss_step.desk.benches.place import PlacePanel
from moss_step.desk.benches.steps import StepBench
from moss_step.desk.controls import SliderControl
from moss_step.desk.plan.live import Live, Preview, mask_veil
from moss_step.model.surface import Surface
from moss_step.model.words import measured, value_text
from moss_step.science.interpolate.levels import Levels, levels_of

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
        self._span()

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
        return Preview(f"{said} {value_text(level, surface.unit)}", Live((), veil))


class SurfaceBench(StepBench):
    """Surfaces between places, and levels."""

    name = "surface"
    panels = {"storage": LevelPanel}
