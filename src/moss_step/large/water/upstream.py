"""What lies upstream of each cell of a ground in tiles, kept for the works that ask for it again."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from moss_step.large.crew import Crew, Work
from moss_step.large.tiling import Tile
from moss_step.large.water.flow import Amount, added_rims, find_ways, whole_amounts
from moss_step.large.water.ground import Ground
from moss_step.large.water.passes import fill
from moss_step.model.progress import Progress
from moss_step.science.water.kernels.neighbours import NONE
from moss_step.science.water.kernels.network import drop_lone


class KeepWork(Work):
    """Adds up what lies upstream, and keeps it."""

    side_by_side = True

    def __init__(self, ground: Ground, inflow: Mapping[str, np.ndarray]) -> None:
        self.ground, self.inflow = ground, dict(inflow)

    def for_tile(self, tile: Tile) -> KeepWork:
        """What one tile needs."""
        return KeepWork(self.ground, {tile.name: self.inflow[tile.name]})

    def read(self, tile: Tile) -> np.ndarray:
        """Ways with one more cell on each side."""
        return self.ground.scratch.window("ways", tile, 1, NONE)

    def work_out(self, tile: Tile, ways: np.ndarray) -> np.ndarray:
        """Amounts of each cell."""
        return whole_amounts(self.ground, tile, amounts_of(self.ground), ways, self.inflow[tile.name])

    def finish(self, tile: Tile, ways: np.ndarray, total: np.ndarray) -> None:
        """Keep them; and how many cells of each row are ground."""
        scratch = self.ground.scratch
        scratch.save("upstream", tile, total[0].astype(np.int32))
        if len(total) > 1:
            scratch.save("area", tile, total[1])
        scratch.save("known", tile, np.count_nonzero(ways[1:-1, 1:-1] != NONE, axis=1))


def amounts_of(ground: Ground) -> tuple[Amount, ...]:
    """What has to be added up: areas follow from cells where all cells are alike."""
    return ("cells", "area") if ground.held.frame.geographic else ("cells",)


def fill_once(ground: Ground, crew: Crew, progress: Progress) -> None:
    """Have the filled ground at hand."""
    if not ground.scratch.finished("filled"):
        fill(ground, crew, progress)


def find_ways_once(ground: Ground, crew: Crew, progress: Progress) -> None:
    """Have the ways at hand."""
    fill_once(ground, crew, progress.part(0.0, 0.6))
    if not ground.scratch.finished("ways"):
        find_ways(ground, crew, progress.part(0.6, 1.0))


def add_up_once(ground: Ground, crew: Crew, progress: Progress) -> None:
    """Have at hand what lies upstream of each cell."""
    find_ways_once(ground, crew, progress.part(0.0, 0.8))
    if ground.scratch.finished("upstream"):
        return
    inflow = added_rims(ground, amounts_of(ground), crew, progress.part(0.8, 0.9))
    tiles = list(ground.tiling)
    doing = "Adding up what lies upstream"
    for _ in crew.each(KeepWork(ground, inflow), tiles, progress.part(0.9, 1.0), doing):
        pass
    ground.scratch.finish("upstream")


@dataclass(frozen=True)
class Streams:
    """The cells of a ground that more than some square metres lie upstream of; with an exponent those
    downstream of where area times slope to that power is as large, which ``steep.carry_once`` has at hand.
    """

    ground: Ground
    least: float
    exponent: float = 0.0

    @property
    def carried(self) -> str:
        """What tiles keep such cells under."""
        return f"streams-{self.least!r}-{self.exponent!r}"

    def cells(self, tile: Tile) -> np.ndarray:
        """Stream cells of a tile (uint8), as ``network.stream_cells`` finds them: a cell that water leaves
        the ground at is none without a stream cell above it.
        """
        scratch = self.ground.scratch
        stream = (
            scratch.window(self.carried, tile, 1, 0)
            if self.exponent
            else (areas(self.ground, tile, 1) >= self.least).astype(np.uint8)
        )
        ways = scratch.window("ways", tile, 1, NONE)
        stream[ways == NONE] = 0
        drop_lone(ways, stream)
        return np.ascontiguousarray(stream[1:-1, 1:-1])


def areas(ground: Ground, tile: Tile, margin: int = 0) -> np.ndarray:
    """Square metres upstream of the cells of a tile with a margin; 0 beyond the ground."""
    frame = ground.held.frame
    if frame.geographic:
        return ground.scratch.window("area", tile, margin, 0.0)
    square: np.ndarray = ground.scratch.window("upstream", tile, margin, 0) * float(frame.row_areas[0])
    return square


def ground_area(ground: Ground) -> float:
    """Square metres of the cells that have a value, as ``Surface.area`` gives them."""
    frame, known = ground.held.frame, np.zeros(ground.held.frame.rows, np.int64)
    for tile in ground.tiling:
        known[tile.rows] += ground.scratch.load("known", tile)
    return frame.area if known.sum() == frame.rows * frame.cols else float((known * frame.row_areas).sum())
