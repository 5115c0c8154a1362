"""Running one step by its declaration: its settings and inputs are checked, then it runs; on a ground that
is mapped from a file a local step runs in bands of rows, with its result mapped, too.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import asdict, replace
from typing import Any

import numpy as np

from moss_step.kinds.registry import cells_of, cut_to, is_mapped, kind_of
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.frame import Frame, same_frame
from moss_step.model.mapped import blocks_of, let_go, room_for, too_large
from moss_step.model.memory import check_memory, fits
from moss_step.model.origin import Given, Origin
from moss_step.model.outcome import Outcome, Value
from moss_step.model.progress import Progress, silent
from moss_step.model.surface import Surface
from moss_step.model.typed import of_kind
from moss_step.model.units import UNKNOWN
from moss_step.steps.declare import Settings, StepKind, every
from moss_step.steps.results import surface_outcome
from moss_step.study.told import Said, merged, retold, said_by

PART_READ = "The ground is too large for memory: the result covers what lies around what was asked."
METRES_TAKEN = "The height unit is not stated: metres are taken."
InTiles = Callable[[StepKind, Settings, Mapping[str, Value], Progress], Outcome | None]
"""What works a step out on inputs that are mapped from files because they are too large for memory; None
where it cannot, or none of them is.
"""
_FEW, _BAND, _BYTES = 8, 8_000_000, 4
"""Rows that a band has at least to look at, cells of one about, and bytes of a cell."""


def run_declared(
    step: StepKind,
    settings: Mapping[str, Any] | Settings,
    inputs: dict[str, Value],
    progress: Progress,
    origins: Mapping[str, Origin] | None = None,
    in_tiles: InTiles | None = None,
) -> Outcome:
    """Check settings and inputs against a declaration, then run it; ``origins`` tell where inputs came from.
    What is too large for memory goes ``in_tiles``, where that is possible.

    Raises AskedWronglyError when an input is missing or of another kind.
    """
    checked = step.checked(dict(settings))
    for spec in step.inputs:
        value = inputs.get(spec.name)
        if value is None and not spec.optional:
            raise AskedWronglyError(
                f"`{step.kind}` needs `{spec.name}`.", "Choose it.", f"Give {spec.name}=..."
            )
        if value is not None and not spec.takes(value):
            what = getattr(value, "quantity", type(value).__name__.lower())
            wanted = spec.quantity or spec.accepts
            raise AskedWronglyError(
                f"`{spec.name}` must be {wanted}, and this is {what}.", "Choose another input."
            )
    if step.further is not None:
        declared = {i.name for i in step.inputs}
        for name in [n for n in inputs if n not in declared]:
            if not step.further.takes(inputs[name]):
                raise AskedWronglyError(f"{name} must be {step.further.accepts}.", "Choose another input.")
    for name, why in step.idle(checked, inputs).items():
        raise AskedWronglyError(f"`{name}` counts {why}.", f"Leave `{name}` out, or change the other.")
    frame = common_frame(inputs)
    margin = (
        None if frame is None or not goes_in_bands(step, frame, inputs) else step.reach.margin(checked, frame)
    )
    if frame is not None and margin is not None:
        return _run_in_bands(step, checked, inputs, (frame, margin[0]), progress)
    if in_tiles is not None and any(map(is_mapped, inputs.values())):
        came = Given(inputs, origins) if origins and step.records else inputs
        outcome = in_tiles(step, checked, came, progress)
        if outcome is not None:
            return outcome
    near = {n: _cut_around(step, checked, inputs, v) for n, v in inputs.items()}
    cut = any(near[n] is not v for n, v in inputs.items())
    outcome = _run_whole(step, checked, near, progress, origins)
    return said_of_part(step, outcome) if cut else outcome


def window_of(
    step: StepKind, settings: Settings, inputs: Mapping[str, Value], frame: Frame
) -> tuple[slice, slice]:
    """Rows and columns of a grid that a step looks at, with some around them: all of them where it does not
    say.
    """
    box = None if step.around is None else step.around(settings, inputs, frame.crs)
    if box is None:
        return slice(0, frame.rows), slice(0, frame.cols)
    xmin, ymin, xmax, ymax = box
    wide, high = _FEW * frame.dx, _FEW * frame.dy
    try:
        return frame.window((xmin - wide, ymin - high, xmax + wide, ymax + high))
    except MossError:  # it lies beside the grid, which the step itself says
        return slice(0, min(frame.rows, _FEW)), slice(0, min(frame.cols, _FEW))


def said_of_part(step: StepKind, outcome: Outcome) -> Outcome:
    """What a step gave on a part of a large ground, with a word on that where it is a grid."""
    grid = kind_of(outcome.value).part is not None and not step.cuts
    return replace(outcome, warnings=(*outcome.warnings, PART_READ)) if grid else outcome


def _cut_around(step: StepKind, settings: Settings, inputs: Mapping[str, Value], value: Value) -> Value:
    """A grid that is mapped from a file, cut to what a step looks at."""
    frame = common_frame({"grid": value})
    if step.around is None or frame is None or not is_mapped(value):
        return value
    rows, cols = window_of(step, settings, inputs, frame)
    whole = (rows.stop - rows.start, cols.stop - cols.start) == frame.shape
    return value if whole else cut_to(value, rows, cols)


def _run_whole(
    step: StepKind,
    checked: Settings,
    inputs: dict[str, Value],
    progress: Progress,
    origins: Mapping[str, Origin] | None = None,
) -> Outcome:
    if step.maps and not fits(step.bytes_in_memory(checked, inputs)):
        inputs = {n: _mapped(v) for n, v in inputs.items()}
    check_memory(
        step.bytes_needed(checked, inputs),
        step.title,
        "Crop the ground, resample it to larger cells, or close other programs.",
    )
    inputs = Given(step.taken(inputs), origins or {})
    outcome = step.run(checked, inputs, progress)
    return replace(outcome, warnings=tuple(dict.fromkeys((*outcome.warnings, *taken_of(step, inputs)))))


def _mapped(value: Value) -> Value:
    """A grid as one that is mapped, so that what is made beside it is mapped, too; what is none, or a part of
    a larger one, stays.

    Raises MossError when the disk has no room.
    """
    kind, surface = kind_of(value), of_kind(value, Surface)
    if kind.array is None or is_mapped(value) or (surface is not None and surface.is_part):
        return value
    about, arrays = kind.parts(value)
    cells = arrays[0]
    held = room_for(cells.size, cells.dtype, True).reshape(cells.shape)
    for rows in blocks_of(cells):
        held[rows] = cells[rows]
        let_go(held)
    restored: Value = kind.restored(about, [held, *arrays[1:]])
    return restored


def taken_of(step: StepKind, inputs: Mapping[str, Value]) -> tuple[str, ...]:
    """What is taken of heights whose unit is not stated: said on every result that is worked out from
    them.
    """
    heights = [s.name for s in step.inputs if s.quantity == "elevation"]
    unknown = any(isinstance(v := inputs.get(n), Surface) and v.unit == UNKNOWN for n in heights)
    return (METRES_TAKEN,) if unknown else ()


def common_frame(inputs: Mapping[str, Value]) -> Frame | None:
    """The frame of all grids among some values; None when there is none, or they do not lie cell on cell."""
    frames: list[Frame] = [
        v.frame for v in inputs.values() if kind_of(v).part is not None and hasattr(v, "frame")
    ]
    return frames[0] if frames and all(same_frame(frames[0], f) for f in frames[1:]) else None


def goes_in_bands(step: StepKind, frame: Frame, inputs: Mapping[str, Value]) -> bool:
    """Whether a step would give a grid that is too large to hold in memory; a part of a larger ground is as
    large as who cut it wants it.
    """
    cut = any(s.is_part for s in every(inputs, Surface).values())
    return not step.beside and not cut and too_large(frame.rows * frame.cols * _BYTES)


def _run_in_bands(
    step: StepKind,
    settings: Settings,
    inputs: Mapping[str, Value],
    ground: tuple[Frame, int],
    progress: Progress,
) -> Outcome:
    """Run a local step band by band, with the rows around each that it looks at (``ground``: its frame, and
    how many); what it gives is mapped from a file, and the same as in one piece.

    Raises MossError when the disk has no room for the result.
    """
    (frame, margin), said, made = ground, list[Said](), list[np.ndarray]()
    bases = {n: s.base for n, s in every(inputs, Surface).items()}
    high, cols = max(1, _BAND // frame.cols), slice(0, frame.cols)
    for first, last in progress.blocks(frame.rows, high, step.title):
        # With some rows before it where a band has few: no step needs more to look at all.
        outer = slice(max(min(first, last - _FEW) - margin, 0), min(last + margin, frame.rows))
        inner = slice(first - outer.start, last - outer.start)
        cut = step.taken({n: cut_to(v, outer, cols) for n, v in inputs.items()})
        own = {n: as_part(v, bases.get(n, 0.0)) for n, v in cut.items()}
        outcome = _run_whole(step, settings, own, silent())
        value = cut_to(outcome.value, inner, cols)
        about, (cells,) = kind_of(value).parts(value)
        if not made:
            made.append(room_for(frame.rows * frame.cols, cells.dtype, True).reshape(frame.shape))
        made[0][first:last] = cells
        seen = {n: cut_to(v, inner, cols) for n, v in own.items()}
        told = retold(step, settings, outcome, value, seen, (inner, cols))
        said.append(said_by(told))
        let_go(made[0], *(cells_of(v) for v in inputs.values() if kind_of(v).array is not None))
    findings, warnings, _ = merged(said)
    result: Value = kind_of(outcome.value).restored({**about, "frame": asdict(frame)}, made)
    surface = of_kind(result, Surface)
    figure = told.figure if surface is None else surface_outcome(surface).figure
    return Outcome(result, figure, findings, warnings)


def as_part(value: Value, base: float) -> Value:
    """A grid as a part of a larger one that has a base."""
    surface = of_kind(value, Surface)
    return value if surface is None else surface.part_of(base)
