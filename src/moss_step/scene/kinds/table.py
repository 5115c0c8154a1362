"""Tables: they have no place on the plan."""

from __future__ import annotations

from moss_step.model.table import Table
from moss_step.scene.picture import OffPlanPicture


class TablePicture(OffPlanPicture):
    """A table as it is."""

    kind = "table"
    value: Table
