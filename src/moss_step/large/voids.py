"""Voids of a ground in tiles, filled from their rims: those inside a tile are filled there. Of those that
cross rims each tile lists its cells with what stands beside them, and they are filled once all are listed.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import partial
from typing import Any, NamedTuple

import numpy as np

from moss_step.formats.address import Place
from moss_step.formats.tiled import TiledFile
from moss_step.formats.windows import GridReader
from moss_step.large.crew import Crew, Once, Work
from moss_step.large.held import OnDisk
from moss_step.large.naming import name_by
from moss_step.large.outlines import joined_over_rims
from moss_step.large.scratch import Scratch, scratch_in
from moss_step.large.sides import Sides, sides_of
from moss_step.large.telling import like
from moss_step.large.tiling import Tile, Tiling, squares, widened, within
from moss_step.large.whole import Fed, OnGrid, Told
from moss_step.model.frame import Frame
from moss_step.model.outcome import Outcome, Value
from moss_step.model.progress import Progress
from moss_step.model.surface import Surface
from moss_step.model.typed import as_kind
from moss_step.science.algebra.voids import Voids, beside, fill_voids, stretched
from moss_step.steps.voids import VOIDS, filled_figure, filled_outcome
from moss_step.study.told import Said, merged, said_by

_AT_ONCE = 5_000_000
"""Cells of voids across rims that are filled at a time."""


@dataclass(frozen=True)
class VoidRim:
    """Voids that reach the sides of a tile: their numbers from 1 along these, the cells of each, and whether
    it stays: it reaches the edge of the ground, or the file is damaged there.
    """

    sides: Sides
    cells: np.ndarray
    stays: np.ndarray


class Listed(NamedTuple):
    """Cells of some voids in a tile: flat indices in the ground, numbers of the voids, and what stands beside
    each, as ``beside`` gives it.
    """

    cells: np.ndarray
    void: np.ndarray
    around: np.ndarray


class Filled(NamedTuple):
    """Cells of a tile, flat indices in the ground, that were filled across rims: their values, and which of
    them are the first of their voids.
    """

    cells: np.ndarray
    values: np.ndarray
    first: np.ndarray


class _VoidWork(Work):
    """Work on the voids of tiles."""

    side_by_side = True

    def __init__(self, grid: OnDisk) -> None:
        self.grid, self._reader = grid, Once(partial(GridReader, grid.source))

    def part(self, rows: slice, cols: slice) -> tuple[Surface, str]:
        """A part of the ground, and what is wrong with its file."""
        value, wrong = self.grid.part(self._reader.get(), rows, cols)
        return as_kind(value, Surface), wrong


class RimWork(_VoidWork):
    """Finds the voids that reach the sides of tiles."""

    def read(self, tile: Tile) -> tuple[np.ndarray, str]:
        """Values of the tile."""
        surface, wrong = self.part(tile.rows, tile.cols)
        return surface.values, wrong

    def work_out(self, tile: Tile, read: tuple[np.ndarray, str]) -> VoidRim:
        """Its voids."""
        values, wrong = read
        labels = _at_sides(values)
        cells = np.bincount(labels.reshape(-1))[1:]
        stays = np.full(len(cells) + 1, bool(wrong))
        for side in _at_edge(sides_of(labels), tile, self.grid.frame):
            stays[side] = True
        return VoidRim(sides_of(labels), cells, stays[1:])


class ListWork(_VoidWork):
    """Lists the cells of some voids; ``void`` has the number of the void of each part of a tile, from 1, and
    0 for one that is not wanted.
    """

    def __init__(self, grid: OnDisk, void: Mapping[str, np.ndarray]) -> None:
        super().__init__(grid)
        self.void = dict(void)

    def for_tile(self, tile: Tile) -> ListWork:
        """What one tile needs."""
        return ListWork(self.grid, {tile.name: self.void[tile.name]})

    def read(self, tile: Tile) -> np.ndarray:
        """Values of the tile with one more cell on each side, as far as the ground goes."""
        rows, cols = self._window(tile)
        surface, wrong = self.part(rows, cols)
        if not wrong:
            return surface.values
        # A tile beside it is damaged: voids that reach that one stay, and the others need the rest alone.
        values = np.full_like(surface.values, np.nan)
        above, below = slice(rows.start, tile.top), slice(tile.bottom, rows.stop)
        left, right = slice(cols.start, tile.left), slice(tile.right, cols.stop)
        own = tile.rows, tile.cols
        strips = (above, tile.cols), (below, tile.cols), (tile.rows, left), (tile.rows, right)
        for down, across in (own, *(b for b in strips if b[0].start < b[0].stop and b[1].start < b[1].stop)):
            values[within(down, rows), within(across, cols)] = self.part(down, across)[0].values
        return values

    def work_out(self, tile: Tile, values: np.ndarray) -> Listed:
        """Its cells of these voids."""
        rows, cols = (within(o, w) for o, w in zip((tile.rows, tile.cols), self._window(tile), strict=True))
        void = np.append(0, self.void[tile.name])[_at_sides(values[rows, cols])]
        r, c = np.nonzero(void)
        around = beside(values, (r + rows.start) * values.shape[1] + c + cols.start)
        cells = (r + tile.top) * self.grid.frame.cols + c + tile.left
        return Listed(cells.astype(np.int64), void[r, c], around)

    def _window(self, tile: Tile) -> tuple[slice, slice]:
        rows, cols = self.grid.frame.shape
        return widened(tile.rows, 1, rows), widened(tile.cols, 1, cols)


class FillWork(_VoidWork):
    """Fills the voids inside tiles, and lays in what was filled across rims: that is kept under ``names``."""

    def __init__(
        self, grid: OnDisk, most_cells: int, scratch: Scratch, names: Sequence[str], target: TiledFile | None
    ) -> None:
        super().__init__(grid)
        self.most_cells, self.scratch, self.names, self.target = most_cells, scratch, names, target

    def read(self, tile: Tile) -> tuple[Surface, str, list[Filled]]:
        """Values of the tile, what is wrong with its file, and what was filled across rims."""
        some = [n for n in self.names if self.scratch.has(n, tile)]
        filled = [Filled(*self.scratch.load_some(n, tile, len(Filled._fields))) for n in some]
        return *self.part(tile.rows, tile.cols), filled

    def work_out(self, tile: Tile, read: tuple[Surface, str, list[Filled]]) -> Outcome:
        """The tile without voids."""
        surface, wrong, across = read
        if wrong:
            return filled_outcome(surface, 0, 0)
        closed, found = fill_voids(surface, self.most_cells)
        values = closed.values.copy()
        for some in across:
            row, col = np.divmod(some.cells, self.grid.frame.cols)
            values[row - tile.top, col - tile.left] = some.values
        count = len(found.first) + sum(int(some.first.sum()) for some in across)
        cells = len(found.cells) + sum(len(some.cells) for some in across)
        return filled_outcome(replace(closed, values=values), count, cells)

    def finish(self, tile: Tile, read: tuple[Surface, str, list[Filled]], told: Outcome) -> tuple[Said, str]:
        """Write it."""
        if self.target is not None:
            self.target.write(tile.rows, tile.cols, as_kind(told.value, Surface).values)
        return said_by(told), read[1]


def _at_sides(values: np.ndarray) -> np.ndarray:
    """Voids that reach the sides of a tile, from 1 (int32), connected over edges; 0 for all other cells."""
    from scipy import ndimage  # takes long to load

    labels, n = ndimage.label(np.isnan(values))
    number = np.zeros(n + 1, np.int32)
    found = np.unique(np.concatenate(sides_of(labels)))
    found = found[found > 0]
    number[found] = np.arange(1, len(found) + 1)
    result: np.ndarray = number[labels]
    return result


def _at_edge(sides: Sides, tile: Tile, frame: Frame) -> Iterator[np.ndarray]:
    """The sides of a tile that lie at the edge of the ground."""
    at_edge = tile.top == 0, tile.right == frame.cols, tile.bottom == frame.rows, tile.left == 0
    yield from (side for side, at in zip(sides, at_edge, strict=True) if at)


class VoidJob(OnGrid):
    """The voids of one ground."""

    @property
    def like(self) -> Value:
        """Values of the precision of its own."""
        return like(self.grid)

    def run(
        self, crew: Crew, target: TiledFile | None, folder: Place, cells: int, progress: Progress
    ) -> Told:
        """Find voids across rims, fill them, and then each tile."""
        tiling, most = squares(self.frame.shape, cells), self.settings.most_cells
        scratch, name = scratch_in(folder, tiling), f"voids-{name_by(self.settings, {'surface': self.grid})}"
        batches = self._wanted(crew, tiling, progress.part(0.0, 0.3))
        names = [f"{name}-{n}" for n in range(len(batches))]
        for n, (kept, void) in enumerate(zip(names, batches, strict=True)):
            part = progress.part(0.3 + 0.3 * n / len(batches), 0.3 + 0.3 * (n + 1) / len(batches))
            if not scratch.finished(kept):
                self._fill_across(crew, scratch, kept, void, part)
                scratch.finish(kept)
        work = FillWork(self.grid, most, scratch, names, target)
        each = crew.each(work, list(tiling), progress.part(0.6, 1.0), "Filling voids")
        done = sorted(each, key=lambda d: d[0])
        findings, warnings, summary = merged([said for _, (said, _) in done])
        wrong = tuple(dict.fromkeys(w for _, (_, w) in done if w))
        count = next(int(f.value) for f in findings if f.name == VOIDS)
        return Told(findings, warnings, wrong=wrong, summary=summary, figure=filled_figure(count))

    def _wanted(self, crew: Crew, tiling: Tiling, progress: Progress) -> list[dict[str, np.ndarray]]:
        """Voids across rims that are to be filled, some at a time: the number of each part of the tiles that
        have any, as ``ListWork`` takes them.
        """
        each = crew.each(RimWork(self.grid), list(tiling), progress, "Looking for voids")
        rims = {tile.name: rim for tile, rim in each}
        alike = {name: np.ones(len(rim.cells), np.int8) for name, rim in rims.items()}
        found, joined = joined_over_rims(tiling, {n: r.sides for n, r in rims.items()}, alike, 4)
        cells, stays = np.zeros(found, np.int64), np.zeros(found, bool)
        for name, rim in rims.items():
            np.add.at(cells, joined[name], rim.cells)
            np.logical_or.at(stays, joined[name], rim.stays)
        wanted = (cells <= self.settings.most_cells) & ~stays
        batch = np.where(wanted, np.cumsum(cells * wanted) // _AT_ONCE, -1)
        number = np.arange(1, found + 1)
        result = list[dict[str, np.ndarray]]()
        for n in np.unique(batch[wanted]):
            void = {name: np.where(batch[j] == n, number[j], 0) for name, j in joined.items()}
            result.append({name: v for name, v in void.items() if v.any()})
        return result

    def _fill_across(
        self,
        crew: Crew,
        scratch: Scratch,
        name: str,
        void: Mapping[str, np.ndarray],
        progress: Progress,
    ) -> None:
        """Fill some voids across rims, and keep the cells of each tile."""
        tiles = [t for t in scratch.tiling if t.name in void]
        each = crew.each(ListWork(self.grid, void), tiles, progress, "Listing voids")
        listed = sorted(each, key=lambda d: d[0])
        whole = Listed(*(np.concatenate([getattr(some, f) for _, some in listed]) for f in Listed._fields))
        order = np.lexsort((whole.cells, whole.void))
        begins = np.append(True, np.diff(whole.void[order]) != 0)
        voids = Voids(whole.cells[order], np.append(np.flatnonzero(begins), len(order)))
        cyclic = as_kind(self.like, Surface).cyclic
        values, first = np.empty(len(order)), np.empty(len(order), bool)
        values[order] = stretched(voids, whole.around[order], self.frame, cyclic)
        first[order] = begins
        start = 0
        for tile, some in listed:
            own = slice(start, start + len(some.cells))
            scratch.save(name, tile, some.cells, values[own], first[own])
            start = own.stop


def without_voids(fed: Fed, settings: Any) -> VoidJob | None:
    """A ground with its voids filled."""
    grid = fed["surface"]
    return VoidJob(grid, settings) if isinstance(grid, OnDisk) else None
