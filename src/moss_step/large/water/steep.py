"""Streams of a ground in tiles that begin where area and slope together are large enough, and run on
downstream: a cell is one of theirs where any such cell lies upstream of it, which is added up as areas are.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from moss_step.large.crew import Crew, Work
from moss_step.large.scratch import Scratch
from moss_step.large.tiling import Tile
from moss_step.large.water.flow import added_rims, whole_amounts
from moss_step.large.water.ground import Window, window_of
from moss_step.large.water.upstream import Streams, areas
from moss_step.model.progress import Progress
from moss_step.science.water.kernels.neighbours import NONE

_SLOPE = 1
"""Cells that a slope looks at around each."""


@dataclass(frozen=True)
class Kept:
    """Weights that tiles keep under a name."""

    scratch: Scratch
    name: str

    def of(self, tile: Tile) -> np.ndarray:
        """Those of a tile."""
        return self.scratch.load(self.name, tile)


class HeadWork(Work):
    """Finds the cells of tiles that streams begin at, and keeps them."""

    side_by_side = True

    def __init__(self, streams: Streams, name: str) -> None:
        self.streams, self.name, self._reader = streams, name, streams.ground.reading()

    def read(self, tile: Tile) -> tuple[Window, np.ndarray]:
        """Heights with a margin for the slope."""
        window, reader = window_of(tile, self.streams.ground.tiling, _SLOPE), self._reader.get()
        return window, reader.read(window.rows, window.cols)

    def work_out(self, tile: Tile, read: tuple[Window, np.ndarray]) -> np.ndarray:
        """Yes or no."""
        streams = self.streams
        steep = streams.ground.slope(*read, "percent") / np.float32(100.0)
        with np.errstate(invalid="ignore"):
            enough: np.ndarray = areas(streams.ground, tile) * steep**streams.exponent >= streams.least
        begins: np.ndarray = enough & (streams.ground.scratch.load("ways", tile) != NONE)
        return begins

    def finish(self, tile: Tile, _: tuple[Window, np.ndarray], begins: np.ndarray) -> None:
        """Keep them."""
        self.streams.ground.scratch.save(self.name, tile, begins)


class CarryWork(Work):
    """Keeps the cells of tiles that such streams run through."""

    side_by_side = True

    def __init__(self, streams: Streams, heads: Kept, inflow: Mapping[str, np.ndarray]) -> None:
        self.streams, self.heads, self.inflow = streams, heads, dict(inflow)

    def for_tile(self, tile: Tile) -> CarryWork:
        """What one tile needs."""
        return CarryWork(self.streams, self.heads, {tile.name: self.inflow[tile.name]})

    def read(self, tile: Tile) -> tuple[np.ndarray, np.ndarray]:
        """Ways with one more cell on each side, and where streams begin."""
        return self.streams.ground.scratch.window("ways", tile, 1, NONE), self.heads.of(tile)

    def work_out(self, tile: Tile, read: tuple[np.ndarray, np.ndarray]) -> np.ndarray:
        """Yes or no."""
        ways, heads = read
        (above,) = whole_amounts(self.streams.ground, tile, ("cells",), ways, self.inflow[tile.name], heads)
        through: np.ndarray = above > 0
        return through

    def finish(self, tile: Tile, _: tuple[np.ndarray, np.ndarray], through: np.ndarray) -> None:
        """Keep them."""
        self.streams.ground.scratch.save(self.streams.carried, tile, through.astype(np.uint8))


def carry_once(streams: Streams, crew: Crew, progress: Progress) -> None:
    """Have the cells at hand that streams run through; what lies upstream of each cell is known."""
    ground, tiles = streams.ground, list(streams.ground.tiling)
    if not streams.exponent or ground.scratch.finished(streams.carried):
        return
    heads = Kept(ground.scratch, f"heads-of-{streams.carried}")
    for _ in crew.each(HeadWork(streams, heads.name), tiles, progress.part(0.0, 0.4), "Finding springs"):
        pass
    inflow = added_rims(ground, ("cells",), crew, progress.part(0.4, 0.7), heads)
    work = CarryWork(streams, heads, inflow)
    for _ in crew.each(work, tiles, progress.part(0.7, 1.0), "Following streams"):
        pass
    ground.scratch.drop(heads.name)
    ground.scratch.finish(streams.carried)
