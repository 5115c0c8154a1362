"""The points bench: clouds, and classes that are set in an outline on the plan."""

from __future__ import annotations

from typing import ClassVar

from moss_step.desk.benches.outlining import OutlinePanel
from moss_step.desk.benches.panel import StepPanel
from moss_step.desk.benches.picking import PickPanel, picks_of
from moss_step.desk.benches.steps import StepBench
from moss_step.steps.catalogue import keeper
from moss_step.steps.declare import StepKind


class PointsBench(StepBench):
    """Clouds, and what is made of them."""

    name = "points"
    panels: ClassVar[dict[str, type[StepPanel]]] = {}

    def panel_for(self, kind: StepKind) -> type[StepPanel]:
        """The step that keeps a lasso draws outlines, too; examples are picked on the plan."""
        if picks_of(kind):
            return PickPanel
        return OutlinePanel if kind is keeper("lasso") else super().panel_for(kind)
