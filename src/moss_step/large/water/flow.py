"""Ways and accumulation of a ground in tiles: what falls in each tile is added up there, what passes from
tile to tile along the rims is added up in one small graph, and each tile is finished.

Barnes 2017, Parallel non-divergent flow accumulation, Environmental Modelling & Software 92.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Literal, Protocol

import numpy as np

from moss_step.formats.windows import GridReader
from moss_step.large.crew import Crew, Work
from moss_step.large.held import OnDisk
from moss_step.large.tiling import Tile, Tiling
from moss_step.large.water import flats
from moss_step.large.water.ground import Ground, framed, window_of
from moss_step.large.water.rounds import Rims
from moss_step.model.progress import Progress
from moss_step.science.water import accumulation
from moss_step.science.water.drainage import amounts
from moss_step.science.water.kernels.accumulation import count_donors
from moss_step.science.water.kernels.neighbours import DC, DR, NONE, OUT
from moss_step.science.water.kernels.tiles import (
    add_cells,
    add_edges,
    begin_counts,
    descend_wet,
    edge_of,
    end_at_rim,
    follow_rim,
    pass_on,
    run_through,
    shorten_counts,
)

Amount = Literal["cells", "area", "edge"]
"""What is added up: cells, square metres, or cells at the edge of the ground."""


_COUNTS = "counts"
"""What tiles keep how many of their own cells lie upstream of each under."""


class WaysWork(Work):
    """Ways over the filled ground; level ground that reaches the rim of a tile is left open."""

    side_by_side = True

    def __init__(self, ground: Ground) -> None:
        self.ground = ground

    def read(self, tile: Tile) -> tuple[np.ndarray, np.ndarray]:
        """The filled ground and the ways of what is dry, with two cells around, as far as the ground goes."""
        window = window_of(tile, self.ground.tiling, 2)
        some = self.ground.scratch
        filled, dry = some.window("filled", tile, 2, np.nan), some.window("dry", tile, 2, NONE)
        rows = slice(window.rows.start - tile.top + 2, window.rows.stop - tile.top + 2)
        cols = slice(window.cols.start - tile.left + 2, window.cols.stop - tile.left + 2)
        return np.ascontiguousarray(filled[rows, cols]), np.ascontiguousarray(dry[rows, cols])

    def work_out(
        self, tile: Tile, read: tuple[np.ndarray, np.ndarray]
    ) -> tuple[np.ndarray, flats.Open | None]:
        """Ways in the tile with one more cell on each side, and its open cells."""
        (filled, ways), window = read, window_of(tile, self.ground.tiling, 2)
        descend_wet(filled, self.ground.metres(window.rows), ways)
        own, heights = framed(ways, tile, window, NONE), framed(filled, tile, window, np.nan)
        count = flats.drain_closed(heights, own)
        return own, flats.open_cells(heights, own, count) if count else None

    def finish(
        self, tile: Tile, _: tuple[np.ndarray, np.ndarray], found: tuple[np.ndarray, flats.Open | None]
    ) -> None:
        """Keep the ways, and what is open: what lies beside that as the last."""
        (ways, left), scratch = found, self.ground.scratch
        if left is None:
            scratch.save("ways", tile, np.ascontiguousarray(ways[1:-1, 1:-1]))
            return
        scratch.save("ways-window", tile, ways)
        scratch.save("ways-cells", tile, left.cells)
        scratch.save("ways-beside", tile, left.beside)


class OpenWaysWork(Work):
    """Drains the open level ground of tiles."""

    side_by_side = True

    def __init__(self, ground: Ground, rims: Mapping[str, Rims]) -> None:
        self.ground, self.rims = ground, dict(rims)

    def for_tile(self, tile: Tile) -> OpenWaysWork:
        """What one tile needs."""
        return OpenWaysWork(self.ground, {tile.name: self.rims[tile.name]})

    def read(self, tile: Tile) -> np.ndarray:
        """Ways of the tile with one more cell on each side."""
        return self.ground.scratch.load("ways-window", tile)

    def work_out(self, tile: Tile, ways: np.ndarray) -> np.ndarray:
        """All ways of the tile."""
        flats.drained(self.ground.scratch, "ways", tile, ways, self.rims[tile.name])
        return np.ascontiguousarray(ways[1:-1, 1:-1])

    def finish(self, tile: Tile, _: np.ndarray, ways: np.ndarray) -> None:
        """Keep them."""
        self.ground.scratch.save("ways", tile, ways)


def find_ways(ground: Ground, crew: Crew, progress: Progress) -> None:
    """Ways of the whole filled ground, kept as ``ways``."""
    scratch, every = ground.scratch, list(ground.tiling)
    # An earlier run may have found some of them.
    fresh = [t for t in every if not (scratch.has("ways", t) or scratch.has("ways-beside", t))]
    for _ in crew.each(WaysWork(ground), fresh, progress.part(0.0, 0.7), "Finding ways"):
        pass
    left = [t for t in every if not scratch.has("ways", t)]
    if left:
        level = [t for t in every if scratch.has("ways-beside", t)]
        rims = flats.settle(crew, scratch, "ways", level, progress.part(0.7, 0.9))
        for _ in crew.each(OpenWaysWork(ground, rims), left, progress.part(0.9, 1.0), "Finding ways"):
            pass
    scratch.finish("ways")
    for name in ("ways-window", "ways-cells", "ways-beside", "ways-far", "ways-noted", "dry"):
        scratch.drop(name)


def rim_cells(rows: int, cols: int) -> np.ndarray:
    """Flat indices of the cells along the sides of a tile, each once."""
    r, c = np.arange(rows)[1:-1], np.arange(cols)
    last = [(rows - 1) * cols + c] if rows > 1 else []
    sides = [r * cols, r * cols + cols - 1] if cols > 1 else [r * cols]
    return np.concatenate([c, *last, *sides]).astype(np.int32)


@dataclass(frozen=True)
class FlowRim:
    """What leaves a tile over each cell of its rim (fields, cells), the row and column that it goes on to
    (-1: nowhere), and the place in the rim that water entering at each cell leaves at (-1: it ends within).
    """

    flow: np.ndarray
    row: np.ndarray
    col: np.ndarray
    link: np.ndarray


class Weights(Protocol):
    """What cells count for. It is sent to workers."""

    def of(self, tile: Tile) -> np.ndarray:
        """Weights of the cells of a tile.

        Raises MossError where they cannot be read.
        """


@dataclass(frozen=True)
class Rain:
    """Weights in a file."""

    held: OnDisk

    def of(self, tile: Tile) -> np.ndarray:
        """Those of a tile."""
        with GridReader(self.held.source) as reader:
            return reader.read(tile.rows, tile.cols)


def weights_of(weights: Weights | None, tile: Tile) -> np.ndarray | None:
    """Weights of the cells of a tile, where there are any."""
    return None if weights is None else weights.of(tile)


def own_amounts(
    ground: Ground, tile: Tile, what: Sequence[Amount], ways: np.ndarray, weights: np.ndarray | None
) -> np.ndarray:
    """What falls in each cell of a tile (amounts, rows, cols), weighed but for those at the edge; ``ways``
    have one more cell on each side.
    """
    inner = np.ascontiguousarray(ways[1:-1, 1:-1])
    frame = ground.held.frame.part(tile.rows, tile.cols)
    total = np.empty((len(what), *inner.shape))
    for one, field in zip(what, total, strict=True):
        if one == "edge":
            edge_of(ways, field)
        else:
            field[:] = amounts(frame, one, weights, inner)
    return total


def added_up(ways: np.ndarray, total: np.ndarray) -> None:
    """Add up what lies upstream within a tile."""
    ended, donors = ways.copy(), np.empty(ways.shape, np.uint8)
    end_at_rim(ended)
    count_donors(ended, donors)
    accumulation.accumulate(ended, donors, total)


def within_tile(
    ground: Ground, tile: Tile, what: Sequence[Amount], ways: np.ndarray, weights: np.ndarray | None
) -> np.ndarray:
    """What lies upstream of each cell within its tile alone: (amounts, rows, cols), or where all cells count
    alike how many they are (int32), below 0 where one of them lies at the edge of the ground; ``ways`` have
    one more cell on each side.
    """
    inner = np.ascontiguousarray(ways[1:-1, 1:-1])
    if weights is None and not (ground.held.frame.geographic and "area" in what):
        if ground.scratch.has(_COUNTS, tile):
            return ground.scratch.load(_COUNTS, tile)
        counts, short = np.empty(inner.shape, np.int64), np.empty(inner.shape, np.int32)
        begin_counts(ways, counts)
        added_up(inner, counts)
        shorten_counts(counts, short)
        return short
    total = own_amounts(ground, tile, what, ways, weights)
    if len(total) == 2:  # as the two parts of one number they take one walk down
        pair = np.empty(inner.shape, np.complex128)
        pair.real, pair.imag = total
        added_up(inner, pair)
        total[0], total[1] = pair.real, pair.imag
    else:
        for field in total:
            added_up(inner, field)
    return total


def with_inflow(
    ground: Ground, what: Sequence[Amount], within: np.ndarray, through: np.ndarray
) -> np.ndarray:
    """What lies upstream of cells in all (amounts, rows, cols), from that within the tile and what runs
    through from others, which it takes the place of.
    """
    if within.dtype != np.int32:
        through += within
        return through
    scale = float(ground.held.frame.row_areas[0]) if "area" in what else 1.0
    for one, field in zip(what, through, strict=True):
        if one == "edge":
            add_edges(within, field)
        else:
            add_cells(within, scale, field)
    return through


class AddWork(Work):
    """Adds up what falls in each tile, and reduces it to its rim."""

    side_by_side = True

    def __init__(self, ground: Ground, what: Sequence[Amount], weights: Weights | None) -> None:
        self.ground, self.what, self.weights = ground, what, weights

    def read(self, tile: Tile) -> tuple[np.ndarray, np.ndarray | None]:
        """Ways with one more cell on each side, and weights."""
        return self.ground.scratch.window("ways", tile, 1, NONE), weights_of(self.weights, tile)

    def work_out(self, tile: Tile, read: tuple[np.ndarray, np.ndarray | None]) -> tuple[FlowRim, np.ndarray]:
        """Amounts that leave over the rim, and those within the tile."""
        ways, weights = read
        within = within_tile(self.ground, tile, self.what, ways, weights)
        inner = np.ascontiguousarray(ways[1:-1, 1:-1])
        rows, cols = inner.shape
        rim = rim_cells(rows, cols)
        number = np.full(inner.size, -1, np.int32)
        number[rim] = np.arange(len(rim))
        k = inner.reshape(-1)[rim]
        way = np.minimum(k, 7)
        r, c = rim // cols + DR[way], rim % cols + DC[way]
        leaves = (k < OUT) & ~((r >= 0) & (r < rows) & (c >= 0) & (c < cols))
        at_rim = within.reshape(-1, inner.size)[:, rim][:, None]
        some = at_rim[0] if within.dtype == np.int32 else at_rim
        total = with_inflow(self.ground, self.what, some, np.zeros((len(self.what), 1, len(rim))))
        flow = np.where(leaves, total[:, 0], 0.0)
        row, col = np.where(leaves, tile.top + r, -1), np.where(leaves, tile.left + c, -1)
        return FlowRim(flow, row, col, follow_rim(inner, rim, number)), within

    def finish(self, tile: Tile, _: Any, found: tuple[FlowRim, np.ndarray]) -> FlowRim:
        """Keep counts for whoever asks next; gives what leaves."""
        rim, within = found
        if within.dtype == np.int32 and not self.ground.scratch.has(_COUNTS, tile):
            self.ground.scratch.save(_COUNTS, tile, within)
        return rim


def first_nodes(tiling: Tiling, sizes: Mapping[str, int]) -> tuple[dict[str, int], int]:
    """The first node of each tile in a graph of so many of each, and how many there are."""
    first, nodes = {}, 0
    for tile in tiling:
        first[tile.name] = nodes
        nodes += sizes[tile.name]
    return first, nodes


def inflows(tiling: Tiling, rims: Mapping[str, FlowRim]) -> dict[str, np.ndarray]:
    """What enters each tile at each cell of its rim (fields, cells), from all that lies upstream of it."""
    first, nodes = first_nodes(tiling, {name: len(rim.link) for name, rim in rims.items()})
    fields = len(next(iter(rims.values())).flow)
    flow, target, link = np.zeros((fields, nodes)), np.full(nodes, -1, np.int64), np.full(nodes, -1, np.int64)
    for tile in tiling:
        rim, at = rims[tile.name], first[tile.name]
        part = slice(at, at + len(rim.link))
        flow[:, part] = rim.flow
        link[part] = np.where(rim.link >= 0, rim.link + at, -1)
        target[part] = nodes_at(tiling, first, rim.row, rim.col)
    inflow = np.zeros_like(flow)
    pass_on(flow, target, link, inflow)
    return {t.name: inflow[:, first[t.name] : first[t.name] + len(rims[t.name].link)] for t in tiling}


def places_on_rim(tile: Tile, row: np.ndarray, col: np.ndarray) -> np.ndarray:
    """Places among the ``rim_cells`` of a tile, by rows and columns in the ground."""
    rows, cols = tile.bottom - tile.top, tile.right - tile.left
    r, c = row - tile.top, col - tile.left
    sides = np.where(c == 0, 2 * cols + r - 1, 2 * cols + rows - 2 + r - 1)
    result: np.ndarray = np.where(r == 0, c, np.where(r == rows - 1, cols + c, sides))
    return result


def nodes_at(tiling: Tiling, first: Mapping[str, int], row: np.ndarray, col: np.ndarray) -> np.ndarray:
    """Nodes of cells on the rims of tiles, by their rows and columns in the ground; -1 for none."""
    out = np.full(len(row), -1, np.int64)
    tr, tc = row // tiling.high, col // tiling.wide
    for r, c in set(zip(tr[row >= 0].tolist(), tc[row >= 0].tolist(), strict=True)):
        tile = tiling.tile(r, c)
        some = (row >= 0) & (tr == r) & (tc == c)
        out[some] = first[tile.name] + places_on_rim(tile, row[some], col[some])
    return out


def whole_amounts(
    ground: Ground,
    tile: Tile,
    what: Sequence[Amount],
    ways: np.ndarray,
    inflow: np.ndarray,
    weights: np.ndarray | None = None,
) -> np.ndarray:
    """What lies upstream of each cell of a tile in the whole ground (amounts, rows, cols)."""
    inner = np.ascontiguousarray(ways[1:-1, 1:-1])
    rim, through = rim_cells(*inner.shape), np.zeros((len(what), *inner.shape))
    for entering, field in zip(inflow, through, strict=True):
        run_through(inner, rim, entering, field)
    return with_inflow(ground, what, within_tile(ground, tile, what, ways, weights), through)


def added_rims(
    ground: Ground,
    what: Sequence[Amount],
    crew: Crew,
    progress: Progress,
    weights: Weights | None = None,
) -> dict[str, np.ndarray]:
    """What enters each tile at its rim."""
    work = AddWork(ground, what, weights)
    done = crew.each(work, list(ground.tiling), progress, "Adding up what lies upstream")
    return inflows(ground.tiling, {t.name: rim for t, rim in done})
