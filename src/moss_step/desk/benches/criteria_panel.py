"""Panels whose question is asked in rows of criteria."""

from __future__ import annotations

from typing import Any

from moss_step.desk.benches.further import FurtherInputs, identifier
from moss_step.desk.benches.panel import StepPanel
from moss_step.desk.criteria_rows import Choice, CriteriaControl
from moss_step.model.surface import Surface
from moss_step.study.graph import Step

_FIRST_SLOPE = 30.0
"""Percent that the first criterion begins with: slides on grassed slopes are rare below; common practice."""


class CriteriaPanel(StepPanel):
    """Offers every surface, and slope and bearing of every ground, for each row; begins with two rows."""

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
            settings = {
                "criteria": [
                    {"of": ground, "measure": "slope_percent", "side": "above", "bound": _FIRST_SLOPE},
                    {"of": ground, "measure": "value", "side": "above", "bound": float(mean)},
                ]
            }
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
