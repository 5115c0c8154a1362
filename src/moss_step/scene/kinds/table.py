"""Tables: they have no place on the plan."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Self

from moss_step.model.table import Table
from moss_step.scene.picture import Picture


@dataclass(frozen=True, eq=False)
class TablePicture(Picture):
    """A table as it is."""

    kind = "table"
    on_plan = False
    value: Table

    @classmethod
    def made(cls, value: Table) -> Self:
        """Nothing is to be prepared."""
        return cls(value)
