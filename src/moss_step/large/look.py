"""A look at all values of a grid in a file of whole or double numbers, before any part of it is worked on:
whether single precision would blur its relief, and the base that it is levelled by.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import partial

import numpy as np

from moss_step.formats.windows import GridReader, GridSource
from moss_step.large.crew import Crew, Once, Work
from moss_step.large.held import OnDisk
from moss_step.large.tiling import Tile, Tiling
from moss_step.model.arrays import blurred
from moss_step.model.findings import Finding
from moss_step.model.frame import Frame
from moss_step.model.progress import Progress
from moss_step.model.summary import Summary, summarise, together
from moss_step.model.units import CELLS, Unit


@dataclass(frozen=True)
class Looked:
    """The summary of all values, whether there were infinite ones, whether single precision would blur their
    relief, and the whole number that is nearest to their mean then.
    """

    summary: Summary
    infinite: bool
    blurred: bool = False
    base: float = 0.0


@dataclass(frozen=True)
class Measured:
    """What is known of a surface without its cells."""

    frame: Frame
    unit: Unit
    quantity: str
    summary: Summary

    @property
    def range(self) -> tuple[float, float] | None:
        """Lowest and highest value, or None when every cell is no-data."""
        return (self.summary.low, self.summary.high) if self.summary.count else None

    @property
    def metres_per_height(self) -> float:
        """Metres in one unit of height; an unknown unit counts as metres."""
        return self.unit.metres

    @property
    def findings(self) -> tuple[Finding, ...]:
        """Range, mean and cells, as every step says them of a surface."""
        cells, unit = Finding("cells", self.summary.count, CELLS), self.unit
        if not self.summary.count:
            return (cells,)
        low, high = self.summary.low, self.summary.high
        mean = Finding("mean", self.summary.mean, unit)
        return (Finding("lowest", low, unit), Finding("highest", high, unit), mean, cells)


class LookWork(Work):
    """Looks at tiles of a grid."""

    def __init__(self, source: GridSource) -> None:
        self.source = source
        self._reader = Once(partial(GridReader, source))

    def read(self, tile: Tile) -> tuple[np.ndarray, bool]:
        """The values of a tile, and whether there were infinite ones so far."""
        reader: GridReader = self._reader.get()
        values = reader.read(tile.rows, tile.cols)
        return values, reader.infinite > 0

    def work_out(self, _: Tile, read: tuple[np.ndarray, bool]) -> tuple[Summary, bool]:
        """The summary of values, and whether single precision holds each of them."""
        single = read[0].astype(np.float32).astype(np.float64)
        return summarise(read[0]), bool(np.array_equal(single, read[0], equal_nan=True))

    def finish(
        self, _: Tile, read: tuple[np.ndarray, bool], result: tuple[Summary, bool]
    ) -> tuple[Summary, bool, bool]:
        """Nothing is written."""
        return *result, read[1]


def look_at(held: OnDisk, crew: Crew, tiling: Tiling, progress: Progress) -> Looked:
    """Look at all of a grid.

    Raises MossError where a part of it cannot be read.
    """
    work, tiles = LookWork(held.source), list(tiling)
    parts = [r for _, r in crew.each(work, tiles, progress, "Looking at the values")]
    whole, exact = together([s for s, _, _ in parts]), all(e for _, e, _ in parts)
    infinite = any(i for _, _, i in parts)
    if whole.count == 0 or exact:
        return Looked(whole, infinite)
    double = blurred(np.array([whole.low, whole.high, np.nextafter(whole.low, whole.high)]))
    return Looked(whole, infinite, double, float(np.rint(whole.mean)) if double else 0.0)
