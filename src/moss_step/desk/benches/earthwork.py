"""The earthwork bench: what is cut and filled inside an outline, while it is dragged."""

from __future__ import annotations

from typing import Any, ClassVar

import numpy as np
import shapely
from PySide6.QtWidgets import QVBoxLayout

from moss_step.desk.benches.outlining import OutlinePanel
from moss_step.desk.benches.panel import StepPanel
from moss_step.desk.benches.place import Said
from moss_step.desk.benches.steps import StepBench
from moss_step.desk.controls import SliderControl
from moss_step.desk.follower import LARGE
from moss_step.desk.parts import button
from moss_step.desk.plan.live import Live, Preview, surface_veil
from moss_step.model.errors import MossError
from moss_step.model.frame import Frame
from moss_step.model.outcome import Outcome
from moss_step.model.surface import Surface
from moss_step.model.telling import Telling
from moss_step.model.words import measured
from moss_step.scene.sketch import Sketch
from moss_step.science.earthwork.meeting import laid_on
from moss_step.science.earthwork.outline import Base, Heights, Moved, Outline, base_at
from moss_step.steps.cut_fill import CutFillSettings, base_of

_ACROSS, _ALPHA = 220, 200
"""The most cells of the veil across, and how dense it is."""
_ALIKE = ("level", "surface")
"""Bases that are the same for every outline: the heights over them are added up once."""


class CutFillPanel(OutlinePanel):
    """Cut and fill inside an outline whose corners are pulled, with figures and picture that follow."""

    def build(self, layout: QVBoxLayout) -> None:
        """A line for what follows, above the outline."""
        self.follows = Said("", "value")
        self.follows.setAccessibleName("Cut and fill while it is dragged")
        self._ready: tuple[tuple[object, ...], Heights] | None = None
        self._laid: tuple[tuple[object, ...], np.ndarray] | None = None
        self._spanned: Surface | None = None
        layout.addWidget(self.follows)
        super().build(layout)
        self.level = self.form.control("level", SliderControl)
        self.level.sliding.connect(self._slide)

    def ground(self) -> Surface | None:
        """The grid that is chosen, when it is there."""
        return self._surface("surface")

    def _surface(self, name: str) -> Surface | None:
        outcome = self.work.outcome(str(self._inputs[name].currentData() or ""))
        return None if outcome is None else outcome.of(Surface)

    def update_draft(self) -> None:
        """The slider runs over the heights of the ground that is chosen now."""
        surface = self.ground()
        if surface is not None and surface is not self._spanned and surface.range is not None:
            self._spanned = surface
            low, high = surface.range
            self.level.set_range(low, high if high > low else low + 1.0)
        super().update_draft()

    def show_remarks(self, outcome: Outcome) -> None:
        """The whole is reckoned: what followed goes."""
        super().show_remarks(outcome)
        self.follows.setText("")
        self.live.emit(None)

    def pull_outline(self, sketch: Sketch) -> None:
        """Reckon the outline as it is pulled."""
        if sketch.shapes:
            self._ask(sketch.shapes[-1].vertices, {})

    def _slide(self, level: float) -> None:
        """Reckon the outline against a level that is dragged."""
        self._ask(self.settings().get(self.outline) or (), {"level": level})

    def _ask(self, corners: Any, more: dict[str, Any]) -> None:
        surface, other = self.ground(), self._surface("base")
        if surface is None or len(corners) < 3:
            return
        given = {n: v for n, v in self.settings().items() if n != self.outline} | more
        try:
            settings = CutFillSettings.model_validate(given)
        except ValueError:
            return  # the form says what is wrong
        telling = self.work.study.telling
        self.work.follower.ask(
            lambda: self._reckon(surface, other, corners, settings, telling), self._draw, LARGE + 1
        )

    def _reckon(
        self, surface: Surface, other: Surface | None, corners: Any, settings: CutFillSettings,
        telling: Telling,
    ) -> Preview:  # fmt: skip
        outline = Outline(surface.frame, shapely.Polygon(corners))
        base = base_of(settings, surface, outline, self._laid_on(surface, other, settings))
        if settings.against in _ALIKE:
            moved = self._heights(surface, other, base, settings).inside(outline)
        else:
            moved = outline.moved(surface.values, base, surface.metres_per_height)
        return Preview(_said(moved, telling), Live((), self._veil(surface, outline, base)))

    def _laid_on(
        self, surface: Surface, other: Surface | None, settings: CutFillSettings
    ) -> np.ndarray | None:
        if settings.against != "surface" or other is None:
            return None
        key = (surface, other)
        if self._laid is None or self._laid[0] != key:
            self._laid = (key, laid_on(other, surface)[0])
        return self._laid[1]

    def _heights(
        self, surface: Surface, other: Surface | None, base: Base,
        settings: CutFillSettings,
    ) -> Heights:  # fmt: skip
        key = (surface, other, settings.against, settings.level)
        if self._ready is None or self._ready[0] != key:
            self._ready = (key, Heights(surface.values, base, surface.metres_per_height))
        return self._ready[1]

    def _veil(self, surface: Surface, outline: Outline, base: Base) -> Any:
        """Cut and fill in colours, on some of the cells."""
        rows, cols = outline.part
        step = max(1, max(outline.window.shape) // _ACROSS)
        r, c = np.arange(rows.start, rows.stop, step), np.arange(cols.start, cols.stop, step)
        off = surface.values[np.ix_(r, c)].astype(np.float64) - base_at(base, r, c)
        frame = surface.frame
        x, y = np.meshgrid(frame.x0 + (c + 0.5) * frame.dx, frame.y0 - (r + 0.5) * frame.dy)
        shapely.prepare(outline.areas)
        off[~shapely.contains_xy(outline.areas, x, y)] = np.nan
        most = float(np.nanmax(np.abs(off))) if np.isfinite(off).any() else 1.0
        x0, y0 = frame.x0 + cols.start * frame.dx, frame.y0 - rows.start * frame.dy
        thin = Frame(len(r), len(c), x0, y0, frame.dx * step, frame.dy * step, frame.crs)
        return surface_veil(Surface(off, thin, surface.unit), "earth", (-most, most), _ALPHA)

    def _draw(self, answer: Preview | MossError) -> None:
        if self._left:
            return
        self.follows.setText(str(answer) if isinstance(answer, MossError) else answer.said)
        self.live.emit(None if isinstance(answer, MossError) else answer.live)

    def leave(self) -> None:
        """Draw nothing any more."""
        self.work.follower.drop()
        self.live.emit(None)
        super().leave()


class SurveyPanel(StepPanel):
    """Two surveys, with one click that swaps which is before and which after."""

    def build(self, layout: QVBoxLayout) -> None:
        """The button stands above the settings."""
        layout.addWidget(
            button("Swap before and after", "The later survey becomes the earlier one", self.swap)
        )
        super().build(layout)

    def swap(self) -> None:
        """Take each survey for the other, with its error and date."""
        refs = {n: str(self._inputs[n].currentData() or "") for n in ("before", "after")}
        given = self.settings()
        crossed = {}
        for one, other in (("error_before", "error_after"), ("before_date", "after_date")):
            crossed[one], crossed[other] = given.get(other), given.get(one)
        self.form.show_some(crossed.keys(), crossed)
        self.take_inputs({"before": refs["after"], "after": refs["before"]})


def _said(moved: Moved, telling: Telling) -> str:
    parts = [
        f"cut {measured(moved.cut)} m³",
        f"fill {measured(moved.fill)} m³",
        f"net {measured(moved.net)} m³",
        telling.area_text(moved.area),
    ]
    return " · ".join(parts)


class EarthworkBench(StepBench):
    """Cut and fill, changes and designs."""

    name = "earthwork"
    panels: ClassVar[dict[str, type[StepPanel]]] = {
        "cut_fill": CutFillPanel,
        "survey_change": SurveyPanel,
        "balance": OutlinePanel,
    }
