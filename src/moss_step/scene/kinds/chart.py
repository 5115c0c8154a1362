"""Charts: they have no place on the plan."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Self

from moss_step.model.chart import Chart
from moss_step.scene.picture import Picture


@dataclass(frozen=True, eq=False)
class ChartPicture(Picture):
    """A chart as it is."""

    kind = "chart"
    on_plan = False
    value: Chart

    @classmethod
    def made(cls, value: Chart) -> Self:
        """Nothing is to be prepared."""
        return cls(value)
