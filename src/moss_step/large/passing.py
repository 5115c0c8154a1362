"""Grids that pass tile by tile from a chain of steps to a work that goes over all of them once: they are
worked out where they are needed, and never lie on the disk.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import partial
from typing import Any

import numpy as np

from moss_step.formats.windows import GridReader
from moss_step.large.chain import Chain, Part, last_value, read, readers_of
from moss_step.large.crew import Once
from moss_step.large.held import OnDisk
from moss_step.large.tiling import Tile
from moss_step.model.frame import Frame
from moss_step.model.outcome import Value


@dataclass(frozen=True)
class Passing:
    """A grid that is worked out by a chain of steps where it is needed, and kept nowhere: the last one of the
    chain gives it. Its kind and what is known of it are as ``OnDisk`` has them.
    """

    chain: Chain
    kind: str
    about: Mapping[str, Any]

    @property
    def frame(self) -> Frame:
        """Where it lies."""
        return next(iter(self.chain.sources.values())).frame

    @property
    def dtype(self) -> np.dtype:
        """Single precision: what needs double is levelled by the mean of all of it, and cannot pass."""
        return np.dtype(np.float32)

    @property
    def quantity(self) -> str:
        """What is measured."""
        return str(self.about.get("quantity", ""))


class PassingCells:
    """Cells of a grid that passes, in one process."""

    def __init__(self, grid: Passing) -> None:
        self._chain = grid.chain
        self._readers = Once(partial(readers_of, {r: s.source for r, s in grid.chain.sources.items()}))

    def read(self, tile: Tile) -> Part:
        """What is read for a tile."""
        return read(self._chain, tile, self._readers.get())

    def wrong(self, part: Part) -> tuple[str, ...]:
        """What could not be read, in words."""
        return part.wrong

    def value(self, tile: Tile, part: Part) -> Value:
        """The grid in a tile."""
        return last_value(self._chain, tile, part)


class HeldCells:
    """Cells of a grid that lies on the disk, in one process."""

    def __init__(self, grid: OnDisk) -> None:
        self._grid, self._reader = grid, Once(partial(GridReader, grid.source))

    def read(self, tile: Tile) -> tuple[Value, str]:
        """The grid in a tile, and what is wrong with its file there."""
        return self._grid.part(self._reader.get(), tile.rows, tile.cols)

    def wrong(self, part: tuple[Value, str]) -> tuple[str, ...]:
        """What could not be read, in words."""
        return (part[1],) if part[1] else ()

    def value(self, _: Tile, part: tuple[Value, str]) -> Value:
        """The grid in a tile."""
        return part[0]


def cells_in(grid: OnDisk | Passing) -> HeldCells | PassingCells:
    """Cells of a grid, tile by tile."""
    return PassingCells(grid) if isinstance(grid, Passing) else HeldCells(grid)
