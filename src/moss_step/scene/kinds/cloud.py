"""Clouds: kept and listed; they are not drawn on the plan."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Self

from moss_step.model.cloud import Cloud
from moss_step.scene.picture import Picture


@dataclass(frozen=True, eq=False)
class CloudPicture(Picture):
    """A cloud as it is."""

    kind = "cloud"
    on_plan = False
    value: Cloud

    @classmethod
    def made(cls, value: Cloud) -> Self:
        """Nothing is to be prepared."""
        return cls(value)
