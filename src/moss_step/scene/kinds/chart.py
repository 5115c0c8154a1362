"""Charts: they have no place on the plan."""

from __future__ import annotations

from moss_step.model.chart import Chart
from moss_step.scene.picture import OffPlanPicture


class ChartPicture(OffPlanPicture):
    """A chart as it is."""

    kind = "chart"
    value: Chart
