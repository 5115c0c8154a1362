"""The earthwork bench: cut and fill inside outlines, changes between surveys, and designs."""

from __future__ import annotations

from typing import ClassVar

from PySide6.QtWidgets import QVBoxLayout

from moss_step.desk.benches.designing import BundPanel, PadPanel, RoadPanel
from moss_step.desk.benches.live_volumes import CutFillPanel
from moss_step.desk.benches.outlining import OutlinePanel
from moss_step.desk.benches.panel import StepPanel
from moss_step.desk.benches.steps import StepBench
from moss_step.desk.parts import button
from moss_step.steps.declare import InputSpec


class SurveyPanel(StepPanel):
    """Two surveys, with one click that swaps which is before and which after."""

    def build(self, layout: QVBoxLayout) -> None:
        """The button stands above the settings."""
        layout.addWidget(
            button("Swap before and after", "The later survey becomes the earlier one", self.swap)
        )
        super().build(layout)

    def usual(self, fitting: list[str], spec: InputSpec) -> str:
        """Of two surveys the newer one in the study is the one after."""
        wanted = {"before": -2, "after": -1}.get(spec.name)
        if wanted is None or len(fitting) < 2:
            return super().usual(fitting, spec)
        return fitting[wanted]

    def swap(self) -> None:
        """Take each survey for the other, with its error and date."""
        refs = {n: str(self._inputs[n].currentData() or "") for n in ("before", "after")}
        given = self.settings()
        crossed = {}
        for one, other in (("error_before", "error_after"), ("before_date", "after_date")):
            crossed[one], crossed[other] = given.get(other), given.get(one)
        self.form.show_some(crossed.keys(), crossed)
        self.take_inputs({"before": refs["after"], "after": refs["before"]})


class EarthworkBench(StepBench):
    """Cut and fill, changes and designs."""

    name = "earthwork"
    panels: ClassVar[dict[str, type[StepPanel]]] = {
        "cut_fill": CutFillPanel,
        "survey_change": SurveyPanel,
        "balance": OutlinePanel,
        "pad": PadPanel,
        "road": RoadPanel,
        "bund": BundPanel,
    }
