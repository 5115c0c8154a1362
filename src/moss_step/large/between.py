"""Surfaces between places in the cells of a grid that stays on the disk: strip by strip, as what stands in a
cell comes of the places alone. Strips are kept: a run that was killed goes on with those that are missing.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import Any, NamedTuple

import numpy as np

from moss_step.formats.address import Place
from moss_step.formats.tiled import TiledFile
from moss_step.large.crew import Crew, Once, Work
from moss_step.large.held import OnDisk
from moss_step.large.naming import name_by
from moss_step.large.passing import Passing
from moss_step.large.scratch import Scratch, scratch_in
from moss_step.large.telling import one_cell
from moss_step.large.tiling import Tile, strips
from moss_step.large.whole import Fed, Told
from moss_step.model.arrays import blurred
from moss_step.model.frame import Frame
from moss_step.model.outcome import Value
from moss_step.model.progress import Progress
from moss_step.model.surface import Surface
from moss_step.model.units import Unit
from moss_step.steps.between import (
    Between,
    Triangles,
    beside_surface,
    between,
    check_system,
    evenly_among,
    findings_between,
    gathered_for,
    no_cell,
    remarks,
    triangles,
    wanted_cells,
)
from moss_step.steps.results import surface_outcome
from moss_step.study.told import Said, merged, said_by

_NEAR = 100.0
"""How much flatter than the places a surface between them may be, so that single precision holds it."""

_LONGER = 4
"""A cell takes longer than in other works: strips are lower by so many times, so that all who work have some.
"""


class Strip(NamedTuple):
    """Values of a strip (rows, cols), and how many cells get one in each row; where they are new, too."""

    values: np.ndarray
    counts: np.ndarray
    new: bool


class BetweenWork(Work):
    """Finds values in strips; each process makes ready for that once."""

    side_by_side = True

    def __init__(self, job: BetweenJob, scratch: Scratch, target: TiledFile | None) -> None:
        self.job, self.name, self.scratch, self.target = job, job.name, scratch, target
        self._between = Once(job.made)

    def read(self, tile: Tile) -> Strip | None:
        """What an earlier run has found."""
        if not self.scratch.has(self.name, tile):
            return None
        values, counts = self.scratch.load_some(self.name, tile, 2)
        return Strip(values, counts, False)

    def work_out(self, tile: Tile, read: Strip | None) -> Strip:
        """Values in single precision; NaN where none are wanted."""
        if read is not None:
            return read
        values, counts = self._between.get().strip(tile.rows)
        return Strip(values, counts, True)

    def finish(self, tile: Tile, read: Strip | None, strip: Strip) -> tuple[Said, np.ndarray]:
        """Write and keep them."""
        if self.target is not None:
            self.target.write(tile.rows, tile.cols, strip.values)
        if strip.new:
            self.scratch.save(self.name, tile, strip.values, strip.counts)
        surface = Surface(strip.values, self.job.frame.part(tile.rows, tile.cols), self.job.unit)
        return said_by(surface_outcome(surface)), strip.counts


@dataclass(frozen=True)
class BetweenJob:
    """One surface between places."""

    settings: Any
    inputs: Mapping[str, Value]
    frame: Frame
    unit: Unit
    besides: bool = True

    @property
    def like(self) -> Surface:
        """Values in single precision."""
        return one_cell(self.frame, self.unit)

    @cached_property
    def name(self) -> str:
        """What its strips are kept under."""
        return f"between-{name_by((self.settings, self.frame), self.inputs)}"

    def made(self) -> Between | Triangles:
        """What finds its values."""
        got = gathered_for(self.settings, self.inputs)
        make = triangles if self.settings.method == "tin" else between
        return make(self.settings, self.inputs, got, self.frame)

    def run(
        self, crew: Crew, target: TiledFile | None, folder: Place, cells: int, progress: Progress
    ) -> Told:
        """Find all strips, and say what the places are worth."""
        progress.at(0.0, "Gathering places")
        some, tiling = self.made(), strips(self.frame.shape, cells // _LONGER)
        work = BetweenWork(self, scratch_in(folder, tiling), target)
        doing = "Finding values between the samples"
        done = sorted(crew.each(work, list(tiling), progress.part(0.1, 0.9), doing), key=lambda d: d[0])
        counts = np.concatenate([rows for _, (_, rows) in done])
        findings, warnings, summary = merged([said for _, (said, _) in done])
        if isinstance(some, Triangles):
            warnings = (*some.got.said, *warnings)
            return Told(some.told(findings), warnings, summary=summary, beside=some.beside())
        if not counts.any():
            raise no_cell()

        def evenly() -> tuple[np.ndarray, np.ndarray]:
            return evenly_among(self.frame, counts, lambda row: some.wanted(slice(row, row + 1))[0])

        progress.at(0.95, "Leaving places out")
        return Told(
            (*findings, *findings_between(some, evenly)), (*remarks(some), *warnings), summary=summary,
            beside=beside_surface(some, lambda: wanted_cells(some)),
        )  # fmt: skip


def interpolate(fed: Fed, settings: Any) -> BetweenJob | None:
    """A surface in the cells of a grid on the disk; along a drift on the disk, or of values that single
    precision barely holds, it goes another way.
    """
    grid = fed.get("like")
    inputs = {n: v for n, v in fed.items() if not isinstance(v, OnDisk | Passing)}
    if not isinstance(grid, OnDisk) or len(inputs) < len(fed) - 1:
        return None
    got = gathered_for(settings, inputs)
    check_system(grid.frame, got)
    held = got.held.values
    middle = 0.5 * (float(held.min()) + float(held.max()))
    if blurred(middle + (held - middle) / _NEAR):
        return None
    return BetweenJob(settings, inputs, grid.frame, got.unit)
