"""A study on grounds that stay on the disk: which steps go together, and what has to lie there between."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Collection, Iterable, Mapping
from dataclasses import asdict, dataclass
from pathlib import Path

from moss_step import __version__
from moss_step.formats.source import files_of
from moss_step.formats.vector import split_layer
from moss_step.large.held import OnDisk
from moss_step.large.works import is_sooner, way_of
from moss_step.model.errors import MossError
from moss_step.model.frame import same_frame
from moss_step.model.memory import BYTES_PER_CELL, free_memory
from moss_step.model.outcome import Outcome
from moss_step.study.declared import common_frame
from moss_step.study.engine import RESULT_VERSION
from moss_step.study.graph import Step, Study, step_of

SHARE = 0.5
"""Share of the free memory from which a ground stays on the disk."""
MANY = 16_000_000
"""Cells from which a ground stays there for works that are done sooner in tiles."""


def left_on_disk(study: Study, steps: Collection[Step], everything: bool) -> dict[str, OnDisk]:
    """The grids that a run leaves on the disk: those too large for memory, large ones whose water is asked
    for, or all of them.
    """
    result = {}
    water = any(is_sooner(s) for s in steps)
    for step in steps:
        declared = step.declared
        try:
            source = declared.on_disk(declared.checked(step.settings)) if declared.on_disk else None
            frame = None if source is None else source.frame
        except MossError:
            if everything:
                raise
            continue  # its own run says what is wrong with it, after what can be done
        if source is None or frame is None:
            continue
        cells = frame.rows * frame.cols
        too_large = cells * BYTES_PER_CELL > SHARE * free_memory()
        # Files of other kinds may have to be read from their beginning for each tile.
        sooner = water and cells >= MANY and source.facts.driver == "GTiff"
        if everything or too_large or sooner:
            about = {"unit": asdict(source.measured_in), "quantity": source.quantity}
            result[step.id] = OnDisk(source, declared.gives, about)
    return result


def is_local(step: Step) -> bool:
    """Whether a step can be worked out tile by tile, with a margin."""
    kind = step.declared
    return kind.reach.kind in ("cell", "around") and kind.reach.settings(kind.checked(step.settings))


@dataclass(frozen=True)
class Chained:
    """Steps that go together over one ground, and those of their results that have to lie on the disk."""

    steps: tuple[Step, ...]
    wanted: tuple[str, ...]


def next_chain(
    left: Collection[Step], held: Mapping[str, OnDisk], there: Mapping[str, Outcome], wanted: Collection[str]
) -> Chained | None:
    """The local steps that can be worked out now, over the ground of the first of them; None where there are
    none. ``there`` are results in memory, ``wanted`` those that files are asked of.

    Raises MossError for grids that do not lie cell on cell.
    """
    steps, frame, made = list[Step](), None, set[str]()
    for step in left:
        if not is_local(step) or not all(r in held or r in made or r in there for r in step.inputs.values()):
            continue
        own = [held[r].frame for r in step.inputs.values() if r in held]
        if not own and not any(r in made for r in step.inputs.values()):
            continue  # all of it is in memory
        beside = common_frame({r: there[r].value for r in step.inputs.values() if r in there})
        frames = [f for f in (frame, *own, beside) if f is not None]
        if any(not same_frame(frames[0], f) for f in frames[1:]):
            if not steps:
                raise MossError(
                    f"The grids of `{step.kind}` do not lie cell on cell, and are too large for memory.",
                    "Resample one to the frame of the other, and write it to a file first.",
                )
            continue
        frame = frames[0]
        steps.append(step)
        made.add(step.id)
    if not steps:
        return None
    later = {r for s in left if s not in steps for r in s.inputs.values()}
    return Chained(tuple(steps), tuple(s.id for s in steps if s.id in wanted or s.id in later))


def taken_once(chained: Chained | None, left: Collection[Step], wanted: Collection[str]) -> dict[str, Step]:
    """The results of a chain that nobody wants, and nothing but one work takes, which goes over them once."""
    steps = () if chained is None else chained.steps
    after, found = [s for s in left if s not in steps], dict[str, Step]()
    for ref in (s.id for s in steps if s.id not in wanted):
        takers = [s for s in after if ref in s.inputs.values()]
        if len(takers) == 1 and way_of(takers[0].kind).once:
            found[ref] = takers[0]
    return found


def feeds(steps: Iterable[Step], wanted: Collection[str]) -> list[Step]:
    """Those of some steps in order that results depend on."""
    some, needed = list(steps), {step_of(r) for r in wanted}
    for step in reversed(some):
        if step.id in needed:
            needed.update(step.sources)
    return [s for s in some if s.id in needed]


def identity(study: Study, targets: Collection[str], cells: int) -> str:
    """What a run is of: its steps with their settings, the files that they read by name, size and time, and
    how the ground is cut. Work that was begun for another one is no use.
    """
    steps = study.needs(targets)
    files = sorted({f for s in steps for f in s.files})
    parts = [
        __version__, RESULT_VERSION, cells,
        [(s.id, s.kind, dict(s.inputs), dict(s.settings)) for s in steps],
        [(str(p), p.stat().st_size, p.stat().st_mtime_ns) for f in files for p in _parts(f)],
    ]  # fmt: skip
    text = json.dumps(parts, sort_keys=True, default=str)
    return hashlib.blake2b(text.encode("utf-8", "backslashreplace"), digest_size=8).hexdigest()


def _parts(source: str) -> list[Path]:
    return files_of(split_layer(source)[0])
