"""What all works about water on a ground in tiles share: what they have at hand, and how they write."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from moss_step.formats.address import Place
from moss_step.formats.tiled import TiledFile
from moss_step.formats.windows import GridReader
from moss_step.kinds.registry import cells_of
from moss_step.large.crew import Crew, Work
from moss_step.large.held import OnDisk
from moss_step.large.scratch import scratch_in
from moss_step.large.tiling import Tile, Tiling, squares
from moss_step.large.water.ground import Ground
from moss_step.large.water.upstream import fill_once
from moss_step.large.whole import OnGrid, Told
from moss_step.model.findings import Finding
from moss_step.model.outcome import Outcome
from moss_step.model.progress import Progress
from moss_step.model.surface import Surface
from moss_step.study.told import Said, merged, said_by

_LEAST = 16
"""Tiles of a ground, where these are not too small."""


class WaterOn(OnGrid):
    """One work about water on a ground. What was worked out on the way is kept for the next one on this
    ground.
    """

    def ground_in(self, folder: Place, cells: int) -> Ground:
        """The ground in square tiles, with a folder for what is worked out on the way."""
        return Ground(self.grid, scratch_in(folder, water_tiles(self.frame.shape, cells)))


def water_tiles(shape: tuple[int, int], cells: int) -> Tiling:
    """Square tiles for works on water, which hold several numbers a cell, where others have about so many
    cells; of a smaller ground so many that all cores have some.
    """
    return squares(shape, max(min(cells * 5 // 9, shape[0] * shape[1] // _LEAST), 1))


class WaterJob(WaterOn):
    """A work that gives a grid."""

    @property
    def besides(self) -> bool:
        """The main result alone."""
        return False

    @property
    def like(self) -> Surface:
        """A surface of one cell such as the result is."""
        raise NotImplementedError

    def prepare(self, ground: Ground, crew: Crew, progress: Progress) -> None:
        """Have at hand what the tiles need."""
        fill_once(ground, crew, progress)

    def for_tile(self, tile: Tile) -> WaterJob:
        """It, with what one tile needs."""
        return self

    def told(self, ground: Ground, tile: Tile, reader: GridReader) -> tuple[Outcome, int]:
        """The result in a tile, with what is said of it, and the cells that shares are of (0: those that have
        a value).
        """
        raise NotImplementedError

    def more(self, ground: Ground) -> tuple[Finding, ...]:
        """Findings that are of all of the ground."""
        return ()

    def remarks(self, findings: tuple[Finding, ...]) -> tuple[str, ...]:
        """Warnings that take all of the ground."""
        return ()

    def run(
        self, crew: Crew, target: TiledFile | None, folder: Place, cells: int, progress: Progress
    ) -> Told:
        """Do it."""
        ground = self.ground_in(folder, cells)
        self.prepare(ground, crew, progress.part(0.0, 0.85))
        work, tiles = WriteWork(ground, self, target), list(ground.tiling)
        said = [one for _, one in crew.each(work, tiles, progress.part(0.85, 1.0), "Writing")]
        findings, warnings, summary = merged(said)
        more = self.more(ground)
        return Told((*findings, *more), (*warnings, *self.remarks(findings)), summary=summary)


class WriteWork(Work):
    """Writes a result about water, tile by tile."""

    side_by_side = True

    def __init__(self, ground: Ground, job: WaterJob, target: TiledFile | None) -> None:
        self.ground, self.job, self.target = ground, job, target
        self._reader = ground.reading()

    def for_tile(self, tile: Tile) -> WriteWork:
        """What one tile needs."""
        return WriteWork(self.ground, self.job.for_tile(tile), self.target)

    def read(self, _: Tile) -> GridReader:
        """Where heights are read from, as far as they are needed."""
        reader: GridReader = self._reader.get()
        return reader

    def work_out(self, tile: Tile, reader: GridReader) -> tuple[Outcome, int]:
        """The result in the tile."""
        return self.job.told(self.ground, tile, reader)

    def finish(self, tile: Tile, _: GridReader, found: tuple[Outcome, int]) -> Said:
        """Write it."""
        outcome, cells = found
        if self.target is not None:
            self.target.write(tile.rows, tile.cols, cells_of(outcome.value))
        said = said_by(outcome)
        return replace(said, cells=cells) if cells else said


def like_ground(dem: OnDisk) -> Surface:
    """A surface of one cell that is like a ground."""
    return Ground(dem, scratch_in(Path(), squares((1, 1)))).like()


def in_tile(job: WaterJob, tile: Tile, values: np.ndarray) -> Surface:
    """A part of the result of a job."""
    return Surface(values, job.frame.part(tile.rows, tile.cols), job.like.unit, job.like.quantity)


def alone(fed: Mapping[str, Any]) -> bool:
    """Whether a work has a ground on the disk, and nothing else."""
    return len(fed) == 1 and isinstance(fed["dem"], OnDisk)


def ground_of(fed: Mapping[str, Any]) -> OnDisk:
    """The ground of a work.

    Raises MossError for one that holds no heights, before the work begins.
    """
    dem: OnDisk = fed["dem"]
    Ground(dem, scratch_in(Path(), squares((1, 1)))).metres(slice(0, 1))
    return dem
