"""The panel of interpolation: a variogram that is dragged, with a surface that follows."""

from __future__ import annotations

from typing import Any

from PySide6.QtWidgets import QVBoxLayout

from moss_step.desk.benches.panel import StepPanel
from moss_step.desk.follower import LARGE
from moss_step.desk.parts import button, column, label, lent_by, row
from moss_step.desk.plan.live import Live, surface_veil
from moss_step.desk.variogram_plot import MapPlot, VariogramPlot
from moss_step.model.errors import MossError
from moss_step.model.outcome import Outcome
from moss_step.model.surface import Surface
from moss_step.model.units import METRE
from moss_step.scene.ramps import usual_ramp
from moss_step.science.interpolate.variogram import Variogram, VariogramMap
from moss_step.steps.between import InterpolateSettings
from moss_step.steps.trials import Trial, trial_of

_PARTS = ("nugget", "sill", "range")
_DIGITS, _NAMES = 4, {"matern": "Matérn"}


class KrigingPanel(StepPanel):
    """Opens the variogram under the plan; its handles set nugget, sill and range."""

    def build(self, layout: QVBoxLayout) -> None:
        """A button for the variogram below the settings."""
        super().build(layout)
        self.trial: Trial | None = None
        self._asked: object = None
        self._dragging = False
        self.plot = VariogramPlot()
        self.plot.dragged.connect(self._on_dragged)
        self.said = label("", "muted")
        self.said.setAccessibleName("Parts of the variogram")
        self.map = MapPlot()
        self.map.hide()
        self.by_way = button("By way", "Pairs by their way to the east and north, as a picture", self.turn)
        self.by_way.setCheckable(True)
        again = button("Fit again", "Take the variogram that fits best", self.fit_again, "plain")
        head = row(label("Variogram", "head"), self.said, 1, self.by_way, again, gap=10)
        both = row(self.plot, self.map, grows=self.plot)
        self.whole = lent_by(self, column([head, both], gap=4, margins=(14, 6, 10, 6)))
        self.open_button = button(
            "Drag the variogram", "Open it below the plan: the surface follows", self.open
        )
        layout.addWidget(self.open_button)

    def open(self) -> None:
        """Show the variogram under the plan."""
        self.drawer_wanted.emit(self.whole)
        self._refresh()

    def turn(self) -> None:
        """Show the picture by way beside the curve by distance, or not."""
        self.map.setVisible(self.by_way.isChecked())
        trial = self.trial
        if self.by_way.isChecked() and trial is not None:
            self.work.follower.ask(trial.by_way, self._take_map, LARGE + 1)

    def _take_map(self, held: VariogramMap | MossError) -> None:
        if self._left:
            return
        if isinstance(held, MossError):
            self.said.setText(str(held))
        else:
            self.map.show_map(held)

    def fit_again(self) -> None:
        """Leave nugget, sill and range to the fit."""
        self.form.show_some(_PARTS, dict.fromkeys(_PARTS))
        self.update_draft()

    def update_draft(self) -> None:
        """The variogram belongs to the settings as they stand."""
        super().update_draft()
        self.open_button.setVisible(self.settings().get("method", "kriging") == "kriging")
        if self.whole.isVisible():
            self._refresh()

    def show_remarks(self, outcome: Outcome) -> None:
        """The surface is there: its preview goes."""
        super().show_remarks(outcome)
        if not self._dragging:
            self.live.emit(None)

    def leave(self) -> None:
        """Draw nothing any more."""
        self.work.follower.drop()
        self.live.emit(None)
        super().leave()

    # --- what is dragged

    def _refresh(self) -> None:
        """Make trials ready for the settings as they stand, unless they are."""
        refs = {n: str(b.currentData()) for n, b in self._inputs.items() if b.currentData()}
        given = self.settings()
        asked = (tuple(sorted(refs.items())), tuple(sorted((n, str(v)) for n, v in given.items())))
        outcomes = {n: self.work.outcome(ref) for n, ref in refs.items()}
        if asked == self._asked or given.get("method", "kriging") != "kriging" or None in outcomes.values():
            return
        self._asked = asked
        inputs = {n: o.value for n, o in outcomes.items() if o is not None}
        try:
            settings = InterpolateSettings.model_validate(given)
        except ValueError:
            return  # the form says what is wrong
        self.work.follower.ask(lambda: trial_of(settings, inputs), self._take, LARGE + 1)

    def _take(self, trial: Trial | MossError) -> None:
        if self._left:
            return
        if isinstance(trial, MossError):
            self.said.setText(str(trial))
            return
        self.trial = trial
        self.plot.telling = self.work.study.telling
        self._show(trial.model)
        if self.by_way.isChecked():
            self.turn()

    def _show(self, model: Variogram) -> None:
        if self.trial is None:
            return
        self.plot.show(self.trial.seen, model)
        first = model.structures[0]
        reach = self.work.study.telling.value(first.range, METRE)
        more = "" if len(model.structures) == 1 else f" and {len(model.structures) - 1} more"
        parts = [
            f"{_NAMES.get(first.shape, first.shape.capitalize())}{more}",
            f"nugget {model.nugget:.{_DIGITS}g}",
            f"sill {model.sill:.{_DIGITS}g}",
            f"practical range {reach}",
        ]
        self.said.setText(" · ".join(parts))

    def _on_dragged(self, nugget: float, sill: float, reach: float, ended: bool) -> None:
        trial = self.trial
        if trial is None:
            return
        parts = [float(f"{v:.{_DIGITS}g}") for v in (nugget, sill, reach)]
        model = trial.with_parts(*parts)
        self._dragging = not ended
        self._show(model)
        if ended:
            values: dict[str, Any] = dict(zip(_PARTS, parts, strict=True))
            self.form.show_some(_PARTS, values)
            self.update_draft()
            return
        self.work.follower.ask(lambda: trial.surface(model), self._draw, LARGE + 1)

    def _draw(self, surface: Surface | MossError) -> None:
        if self._left or not self._dragging:
            return
        if isinstance(surface, MossError):
            self.said.setText(str(surface))
            return
        if surface.range is not None:
            self.live.emit(Live((), surface_veil(surface, usual_ramp(surface))))
