"""Numbers that a step worked out, each with its unit."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from moss_step.model.units import NONE, Unit


@dataclass(frozen=True)
class Finding:
    """One number: its name, value and unit, and what it is of (a class, a zone) when there are several."""

    name: str
    value: float
    unit: Unit = NONE
    of: str = ""

    def as_json(self) -> dict[str, Any]:
        """Give the finding as plain data for JSON output."""
        row: dict[str, Any] = {"name": self.name, "value": self.value, "unit": self.unit.key}
        if self.of:
            row["class"] = self.of
        return row
