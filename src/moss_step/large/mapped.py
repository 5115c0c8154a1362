"""Steps that look at a whole ground, on one that is mapped from a file because memory cannot hold it: it is
laid out in tiles, worked on tile by tile, and the result is mapped, too.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from contextlib import AbstractContextManager
from dataclasses import replace
from functools import partial
from pathlib import Path

import numpy as np

from moss_step.formats.tiled import TiledFile
from moss_step.formats.whole import passing_folder
from moss_step.kinds.kind import Kind
from moss_step.kinds.registry import cells_of, is_mapped, kind_of
from moss_step.large.crew import Crew
from moss_step.large.held import OnDisk, source_of, taken_over
from moss_step.large.tiling import CELLS, Tile, bands
from moss_step.large.whole import Fed, NotInTilesError, Told, Whole
from moss_step.large.works import way_of, work_of
from moss_step.model.errors import MossError, StoppedError
from moss_step.model.frame import Frame
from moss_step.model.mapped import let_go, roomy_folder
from moss_step.model.origin import Came, origins_of
from moss_step.model.outcome import Outcome, Value
from moss_step.model.progress import Progress
from moss_step.model.surface import Surface
from moss_step.model.typed import as_kind, of_kind
from moss_step.steps.declare import Settings, StepKind
from moss_step.steps.results import surface_outcome
from moss_step.study.declared import common_frame, taken_of, window_of

Hands = Callable[[Path], AbstractContextManager[Crew]]
"""Gives who works in a folder, for as long as the block goes."""


class InTiles:
    """Works out a step on mapped grounds tile by tile, where it can be done so."""

    def __init__(self, hands: Hands, place: Callable[[], Path] = roomy_folder, cells: int = CELLS) -> None:
        """``place`` gives the folder that files on the way go to."""
        self._hands, self._place, self._cells = hands, place, cells

    def __call__(
        self, step: StepKind, settings: Settings, inputs: Mapping[str, Value], progress: Progress
    ) -> Outcome | None:
        """The result; None where no input is mapped, or the step has no such way with these settings.

        Raises MossError when the disk has no room.
        """
        large = {n: v for n, v in inputs.items() if kind_of(v).tiled is not None and is_mapped(v)}
        make, way = work_of(step.kind), way_of(step.kind)
        if make is None or not large or way.as_well:
            return None
        with passing_folder(self._place()) as folder:
            begun = {n: _begin(folder / f"{n}.tif", v, _frame(v)) for n, v in large.items()}
            held: Fed = Came(
                {**inputs, **{n: _held(begun[n], v) for n, v in large.items()}},
                origins_of(inputs).get,
            )
            job = make(held, settings)
            if job is None:
                return None
            for n, v in large.items():
                rows = slice(0, _frame(v).rows)
                if way.partly:
                    rows, _ = window_of(step, settings, inputs, _frame(v))
                tiles = list(bands(_frame(v).shape, self._cells).meeting(rows, slice(0, _frame(v).cols)))
                _fill(begun[n], cells_of(v), tiles, progress.part(0.0, 0.05))
            target = None if job.like is None else _begin(folder / "result.tif", job.like, job.frame)
            try:
                with self._hands(folder) as crew:
                    told = job.run(crew, target, folder, self._cells, progress.part(0.05, 0.95))
            except NotInTilesError:
                return None
            if told.wrong:
                raise MossError(told.wrong[0], "Run the step again.")
            return self._outcome(step, inputs, job, told, target, progress.part(0.95, 1.0))

    def _outcome(
        self,
        step: StepKind,
        inputs: Mapping[str, Value],
        job: Whole,
        told: Told,
        target: TiledFile | None,
        progress: Progress,
    ) -> Outcome:
        warnings = tuple(dict.fromkeys((*told.warnings, *taken_of(step, inputs))))
        if told.outcome is not None:
            return replace(told.outcome, findings=told.findings, warnings=warnings)
        if target is None:
            raise TypeError(f"{step.kind} gave nothing.")
        value = as_kind(_mapped(target, job, progress), Surface)
        # The files that it is made of go with the work.
        made = {name: _made_now(make) for name, make in told.beside.items()}
        beside = {spec.name: made.get(spec.name, _not_there(step)) for spec in step.beside}
        figure = told.figure or surface_outcome(value).figure
        return Outcome(value, figure, told.findings, warnings, beside)


def _made_now(make: Callable[[], Outcome]) -> Callable[[], Outcome]:
    """What gives the same as ``make``, which is asked at once; what that refuses is refused when it is asked
    for.
    """
    try:
        outcome = make()
    except StoppedError:
        raise
    except MossError as error:
        return partial(_refused, error)
    return lambda: outcome


def _refused(error: MossError) -> Outcome:
    raise error


def _not_there(step: StepKind) -> Callable[[], Outcome]:
    def refuse() -> Outcome:
        raise MossError(
            f"{step.title} gives its main result alone on a ground this large.", "Crop the ground for more."
        )

    return refuse


def _frame(value: Value) -> Frame:
    frame = common_frame({"grid": value})
    if frame is None:
        raise TypeError(f"{kind_of(value).name} lies nowhere.")
    return frame


def _plain(kind: Kind, value: Value) -> dict[str, object]:
    return {n: v for n, v in kind.parts(value)[0].items() if n != "frame"}


def _begin(path: Path, like: Value, frame: Frame) -> TiledFile:
    kind = kind_of(like)
    if kind.tiled is None:
        raise TypeError(f"{kind.name} has no tiles.")
    return kind.tiled(path, _plain(kind, like), frame, cells_of(like).dtype, "", "")


def _held(target: TiledFile, value: Value) -> OnDisk:
    kind, surface = kind_of(value), of_kind(value, Surface)
    return OnDisk(source_of(target), kind.name, _plain(kind, value), 0.0 if surface is None else surface.base)


def _fill(target: TiledFile, cells: np.ndarray, tiles: Sequence[Tile], progress: Progress) -> None:
    for n, tile in enumerate(tiles):
        progress.at(n / len(tiles), "Laying out tiles")
        target.write(tile.rows, tile.cols, cells[tile.rows, tile.cols])
        let_go(cells)


def _mapped(target: TiledFile, job: Whole, progress: Progress) -> Value:
    """A result in a file as a value that is mapped."""
    like, frame = job.like, job.frame
    if like is None:
        raise TypeError("a work without a grid has no file")
    kind = kind_of(like)
    held = OnDisk(source_of(target), kind.name, _plain(kind, like))
    return taken_over(held, (slice(0, frame.rows), slice(0, frame.cols)), True, progress)
