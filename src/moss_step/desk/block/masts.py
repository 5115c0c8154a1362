"""Observers of the views that the plan shows, as masts on the block."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass

import numpy as np

from moss_step.desk.work import Work
from moss_step.model.errors import MossError
from moss_step.model.surface import Surface
from moss_step.model.typed import as_kind
from moss_step.steps.observers import SightSettings, observers_of
from moss_step.study.graph import Step

MOST = 2_000
"""Masts that are drawn at most."""


@dataclass(frozen=True)
class Mast:
    """A mast at coordinates of the ground; foot and top in metres."""

    name: str
    x: float
    y: float
    foot: float
    top: float


def masts_of(work: Work, shown: Collection[str], ground: Surface) -> list[Mast]:
    """The masts of the steps that are shown, each as high as its observer stands, wherever there is
    ground.
    """
    result: list[Mast] = []
    for step in work.study_with_draft.steps:
        if step.id in shown and issubclass(step.declared.settings, SightSettings):
            result += _of_step(work, step, ground)
    return result[:MOST]


def _of_step(work: Work, step: Step, ground: Surface) -> list[Mast]:
    result = {name: work.outcome(source) for name, source in step.inputs.items()}
    values = {name: outcome.value for name, outcome in result.items() if outcome is not None}
    try:
        observers = observers_of(
            as_kind(step.declared.checked(step.settings), SightSettings), values, ground.frame
        )
    except MossError:
        return []  # its card says what is wrong with it
    masts = []
    for observer in observers:
        cell = ground.frame.cell_at(observer.x, observer.y)
        if cell is not None and not np.isnan(ground.values[cell]):
            foot = float(ground.values[cell]) * ground.metres_per_height
            masts.append(
                Mast(
                    observer.name,
                    observer.x,
                    observer.y,
                    foot,
                    observer.height if observer.absolute else foot + observer.height,
                )
            )
    return masts
