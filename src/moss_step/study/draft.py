"""A step that is being made and is not kept yet."""

from __future__ import annotations

from dataclasses import dataclass

from moss_step.study.graph import Step

DRAFT = "draft"
"""Id of the step that is being made."""


@dataclass(frozen=True)
class Draft:
    """A step that is being made, or changed: ``replaces`` is the id of the step it will change."""

    step: Step
    replaces: str = ""
