"""A step on a part of its ground: as much of this around the part is taken as the step says that it
looks at.
"""

from __future__ import annotations

import logging
from collections.abc import Mapping
from dataclasses import replace

from moss_step.kinds.registry import cut_to
from moss_step.model.errors import MossError
from moss_step.model.frame import Box
from moss_step.model.outcome import Outcome, Value
from moss_step.model.progress import Progress
from moss_step.steps.declare import Settings, StepKind
from moss_step.study.declared import common_frame, run_declared
from moss_step.study.engine import Engine
from moss_step.study.graph import Study

_log = logging.getLogger(__name__)
_LARGE, _MOST_SHARE = 1_000_000, 0.5
"""Cells from which a first look at a part is worth it, and the share of them that it may have."""
Window = tuple[slice, slice]
"""Rows and columns."""


def run_partly(
    step: StepKind, settings: Settings, inputs: Mapping[str, Value], window: Window, progress: Progress
) -> Outcome | None:
    """Give what a step gives in a window of its ground; None where it looks at all of the ground, or its
    grids do not lie cell on cell.

    Raises what the step raises.
    """
    frame = common_frame(inputs)
    margin = None if frame is None else step.reach.margin(settings, frame)
    if frame is None or margin is None:
        return None
    outer = [
        slice(max(w.start - m, 0), min(w.stop + m, n))
        for w, m, n in zip(window, margin, frame.shape, strict=True)
    ]
    some = {name: cut_to(value, outer[0], outer[1]) for name, value in inputs.items()}
    outcome = run_declared(step, settings.model_dump(exclude_unset=True), some, progress)
    inner = [slice(w.start - o.start, w.stop - o.start) for w, o in zip(window, outer, strict=True)]
    return replace(outcome, value=cut_to(outcome.value, inner[0], inner[1]), beside={})


def look_at(engine: Engine, study: Study, step_id: str, box: Box, progress: Progress) -> Outcome | None:
    """Give what a step gives in a box of the plan, from results that are in memory; None where that is not
    possible, or no shorter than all.

    A step that cannot be run is left to the whole run, which says why. Raises StoppedError when stopped.
    """
    step = study.step(step_id)
    result = {name: engine.outcome(study, ref) for name, ref in step.inputs.items()}
    inputs = {name: outcome.value for name, outcome in result.items() if outcome is not None}
    frame = common_frame(inputs) if len(inputs) == len(result) else None
    if frame is None or frame.rows * frame.cols < _LARGE:
        return None
    try:
        rows, cols = frame.window(box)
        if (rows.stop - rows.start) * (cols.stop - cols.start) > _MOST_SHARE * frame.rows * frame.cols:
            return None
        return run_partly(step.declared, step.declared.checked(step.settings), inputs, (rows, cols), progress)
    except MossError as error:
        _log.info("no first look: %s", error)
        return None
