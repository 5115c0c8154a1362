"""Panels whose question is asked in rows of criteria."""

from __future__ import annotations

from typing import Any

from PySide6.QtWidgets import QVBoxLayout

from moss_step.desk.benches.further import FurtherInputs, identifier
from moss_step.desk.benches.place import PlacePanel
from moss_step.desk.criteria_rows import Choice, CriteriaControl
from moss_step.model.surface import Surface
from moss_step.study.graph import Step

_FIRST_SLOPE = 30.0
"""Percent, or degrees, that the first bound on slope begins with."""


class CriteriaPanel(PlacePanel):
    """Offers every surface, and slope and bearing of every ground, for each row; begins with two rows."""

    def needs_no_place(self) -> bool:
        """Areas do as well as a place."""
        return "at" not in self.kind.settings.model_fields

    def build(self, layout: QVBoxLayout) -> None:
        """Take the places that the kind has a setting for."""
        self.places = "at" if "at" in self.kind.settings.model_fields else ""
        super().build(layout)

    def _further_inputs(self) -> FurtherInputs | None:
        return None  # the rows name them

    def load_settings(self, settings: dict[str, Any]) -> None:
        """Begin with the slope and the height of the ground."""
        self._names: dict[str, str] = {}
        self._show_choices()
        ground = next((n for n, ref in self._names.items() if ref == self._ground()), "")
        if not settings and ground:
            outcome = self.work.outcome(self._ground())
            surface = outcome.of(Surface) if outcome is not None else None
            mean = 0.0 if surface is None or not surface.summary.count else round(surface.summary.mean)
            rows = [
                {"of": ground, "measure": "slope_percent", "side": "above", "bound": _FIRST_SLOPE},
                {"of": ground, "measure": "value", "side": "above", "bound": float(mean)},
            ]
            if self.places:
                rows = [
                    {"of": ground, "measure": "facing", "side": "between", "bound": 45.0, "upper": 135.0},
                    {"of": ground, "measure": "slope_degrees", "side": "above", "bound": _FIRST_SLOPE},
                ]
            settings = {"criteria": rows}
        super().load_settings(settings)

    def _ground(self) -> str:
        return self.work.study.shading.ground

    def _show_choices(self) -> None:
        self._names = {}
        choices = []
        for ref, text in self.fitting(self.kind.further):
            name = identifier(text, self._names)
            self._names[name] = ref
            said = self.work.now.said.get(ref)
            outcome = self.work.outcome(ref)
            surface = outcome.of(Surface) if outcome is not None else None
            unit = surface.unit.symbol if surface is not None else ""
            choices.append(Choice(name, "value", text, unit))
            if said is not None and said.quantity == "elevation":
                choices += [
                    Choice(name, "slope_percent", f"Slope of {text}", "%"),
                    Choice(name, "slope_degrees", f"Slope of {text}", "°"),
                    Choice(name, "facing", f"Bearing that {text} faces", "°"),
                ]
        weighed = self.settings().get("rule") == "weighted"
        self.form.control("criteria", CriteriaControl).show_choices(choices, weighed)

    def update_draft(self) -> None:
        """Rows have weights where weights count."""
        if hasattr(self, "_names"):
            self._show_choices()
        super().update_draft()

    def step_as_set(self) -> tuple[Step | None, str]:
        """The step with the surfaces that its rows name."""
        step, wrong = super().step_as_set()
        if step is None:
            return None, wrong
        named = {str(r["of"]) for r in self.settings().get("criteria") or ()}
        inputs = {**step.inputs, **{n: ref for n, ref in self._names.items() if n in named}}
        return step.model_copy(update={"inputs": inputs}), ""
