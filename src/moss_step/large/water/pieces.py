"""The pieces that a ground in tiles is divided into by which of some places its water first meets, and what
is measured of each.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np

from moss_step.formats.windows import GridReader, GridSource
from moss_step.large.crew import Crew, Work
from moss_step.large.outlines import Numbered
from moss_step.large.tiling import Tile
from moss_step.large.water.ends import Ends, Followed, follow
from moss_step.large.water.ground import Ground, Window, window_of
from moss_step.large.water.upstream import Streams
from moss_step.model.frame import Frame
from moss_step.model.progress import Progress, silent
from moss_step.science.water.basin_figures import Sums
from moss_step.science.water.kernels.basins import add_depths, add_steps, add_up, longest_of
from moss_step.science.water.kernels.neighbours import DC, DR, OUT
from moss_step.science.water.neighbours import distances

_SLOPE = 1
"""Cells that a slope looks at around each."""
METRES, VOLUME = len(Sums._fields), len(Sums._fields) + 1
ADDED = VOLUME + 1
"""Columns of what is added up over a piece: as ``Sums``, metres of stream, and volume under water."""


@dataclass(frozen=True)
class Places:
    """Water is followed to some cells: of each tile their places in it; the height of the water there
    counts.
    """

    at: Mapping[str, np.ndarray]
    lengths: bool = True

    def cells(self, ground: Ground, tile: Tile, reader: GridReader) -> np.ndarray:
        """The cells."""
        out = np.zeros((tile.bottom - tile.top, tile.right - tile.left), np.uint8)
        if tile.name in self.at:
            out.reshape(-1)[self.at[tile.name]] = 1
        return out

    def values(self, ground: Ground, tile: Tile, reader: GridReader) -> np.ndarray:
        """Heights of the water."""
        return ground.scratch.load("filled", tile)


def _within_tiles(ground: Ground, cells: np.ndarray) -> dict[str, np.ndarray]:
    """Cells of a ground, by their places in the tiles that hold them."""
    row, col = np.divmod(cells, ground.held.frame.cols)
    return {
        tile.name: (row[some] - tile.top) * (tile.right - tile.left) + col[some] - tile.left
        for tile, some in ground.by_tile(cells).items()
    }


def runs_to(frame: Frame, cells: np.ndarray, ways: np.ndarray) -> np.ndarray:
    """The cells that the water of some cells goes on to by their ways; -1 where it leaves the ground."""
    row, col = np.divmod(cells, frame.cols)
    way = np.minimum(ways, 7)
    return np.where(ways < OUT, (row + DR[way]) * frame.cols + col + DC[way], -1)


class Around(NamedTuple):
    """What the cells of a tile are added up from: a reader of the ground, and a window of it with heights."""

    reader: GridReader
    window: Window
    heights: np.ndarray


def around_tile(ground: Ground, tile: Tile, reader: GridReader) -> Around:
    """A tile with a margin for the slope."""
    window = window_of(tile, ground.tiling, _SLOPE)
    return Around(reader, window, reader.read(window.rows, window.cols))


def added_up(
    ground: Ground, tile: Tile, read: Around, numbered: np.ndarray, level: np.ndarray, streams: Streams | None
) -> np.ndarray:
    """Of each number from 0 on in a tile what is added up over its cells; with ``streams`` metres of these,
    and what stands over cells that lie below a ``level``, too.
    """
    (reader, window, heights), frame, sums = read, ground.held.frame, np.zeros((len(level), ADDED))
    areas = frame.part(tile.rows, tile.cols).row_areas
    inner = np.ascontiguousarray(heights[window.inner])
    if min(frame.shape) < 2:
        steep = np.full(inner.shape, np.float32(np.nan))
    else:
        steep = ground.slope(window, heights, "degrees")
    with silent().pulse(1) as pulse:
        add_up(numbered, inner, ground.held.base, steep, areas, sums, pulse)
    if streams is None:
        return sums
    some = np.zeros(len(sums))
    add_depths(numbered, ground.heights(reader, tile.rows, tile.cols), level, areas, some)
    sums[:, VOLUME] = some
    first = max(tile.top - 1, 0)
    # Steps are measured by the upper of two rows, which may lie above the tile.
    above = ((tile.top - first, 0), (0, 0))
    stream, ways = streams.cells(tile), ground.scratch.load("ways", tile)
    spans, metres = distances(frame.part(slice(first, tile.bottom), slice(0, 1))), np.zeros(len(sums))
    ways, stream, numbered = (np.pad(grid, above) for grid in (ways, stream, numbered))
    add_steps(ways, spans, stream, numbered, metres)
    sums[:, METRES] = metres
    return sums


class Piece(NamedTuple):
    """Of the pieces that a tile has cells of: their numbers from 1; what was added up, the longest way to the
    end of the piece in metres, and the height of the water where it begins; and of some cells the piece and
    the metres.
    """

    number: np.ndarray
    sums: np.ndarray
    longest: np.ndarray
    head: np.ndarray
    asked: np.ndarray
    piece_there: np.ndarray
    metres_there: np.ndarray


class PieceWork(Work):
    """Measures pieces in tiles, and keeps which piece each cell is of; with ``streams`` their lengths,
    too.
    """

    side_by_side = True

    def __init__(
        self,
        followed: Followed,
        places: np.ndarray,
        asked: Mapping[str, np.ndarray],
        ground: Ground,
        streams: Streams | None,
    ) -> None:
        self.followed, self.places, self.asked = followed, places, dict(asked)
        self.ground, self.streams = ground, streams
        self._reader = ground.reading()

    def for_tile(self, tile: Tile) -> PieceWork:
        """What one tile needs."""
        asked = {tile.name: self.asked[tile.name]} if tile.name in self.asked else {}
        return PieceWork(self.followed.for_tile(tile), self.places, asked, self.ground, self.streams)

    def read(self, tile: Tile) -> Around:
        """Heights with a margin for the slope."""
        return around_tile(self.ground, tile, self._reader.get())

    def work_out(self, tile: Tile, read: Around) -> tuple[np.ndarray, Piece]:
        """Pieces of cells, and what they measure."""
        ends = self.followed.ends(self.ground, tile, read.reader)
        piece = np.where(ends.cell >= 0, np.searchsorted(self.places, ends.cell) + 1, 0).astype(np.int32)
        number, local = np.unique(np.append(0, piece), return_inverse=True)
        numbered = local[1:].astype(np.int32)[ends.labels]
        n = len(number)
        longest, head = np.zeros(n), np.zeros(n, np.float32)
        head[local[1:]] = ends.value
        sums = added_up(self.ground, tile, read, numbered, head, self.streams)
        longest_of(numbered, ends.metres, self.ground.scratch.load("filled", tile), longest, head)
        return piece[ends.labels], Piece(
            number[1:], sums[1:], longest[1:], head[1:], *self._there(tile, piece, ends)
        )

    def _there(self, tile: Tile, piece: np.ndarray, ends: Ends) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        at = self.asked.get(tile.name, np.empty(0, np.int64))
        r, c = np.divmod(at, tile.right - tile.left)
        cells = (tile.top + r) * self.ground.held.frame.cols + tile.left + c
        return cells, piece[ends.labels.reshape(-1)[at]], ends.metres.reshape(-1)[at]

    def finish(self, tile: Tile, _: Any, found: tuple[np.ndarray, Piece]) -> Piece:
        """Keep the pieces."""
        self.ground.scratch.save("pieces", tile, found[0])
        return found[1]


@dataclass(frozen=True)
class OnGround(Numbered):
    """Numbers of cells by what the tiles of a ground keep."""

    ground: Ground

    @property
    def source(self) -> GridSource:
        """The ground."""
        return self.ground.held.source


@dataclass(frozen=True)
class Numbers(OnGround):
    """Numbers of areas that are made of pieces."""

    number: np.ndarray
    """Of each piece, from 0: none."""

    def numbers(self, tile: Tile, reader: GridReader) -> np.ndarray:
        """The number of each cell."""
        result: np.ndarray = self.number[self.ground.scratch.load("pieces", tile)]
        return result


class Joined(NamedTuple):
    """What was added up over some pieces, the longest way in all of them in metres, and how far water falls
    along it.
    """

    sums: np.ndarray
    longest: float
    fall: float


@dataclass(frozen=True)
class Added:
    """What ``added_up`` gives of some parts of a ground, put together."""

    sums: np.ndarray

    @property
    def counted(self) -> Sums:
        """What was added up over the cells of each."""
        return Sums(*self.sums[:, : len(Sums._fields)].T)

    @property
    def stream_metres(self) -> np.ndarray:
        """Metres of stream in each."""
        return self.sums[:, METRES]

    @property
    def under_water(self) -> np.ndarray:
        """Square metres times the unit of the heights below the water that counts in each."""
        return self.sums[:, VOLUME]


@dataclass(frozen=True)
class Pieces(Added):
    """All pieces of a ground: of each, in the order of their places, what was added up, the longest way, and
    the height of the water where it begins and at the place; the piece below (-1: none), and the metres from
    the place to the one below.
    """

    longest: np.ndarray
    head: np.ndarray
    water: np.ndarray
    below: np.ndarray
    metres: np.ndarray

    @property
    def fall(self) -> np.ndarray:
        """How far water falls along the longest way of each."""
        fall: np.ndarray = (self.head - self.water).astype(np.float64)
        return fall

    def depths(self) -> np.ndarray:
        """How many pieces lie below each."""
        depth, at = np.zeros(len(self.below), np.int64), self.below.copy()
        while (at >= 0).any():
            depth += at >= 0
            at = np.where(at >= 0, self.below[at], -1)
        return depth

    def upstream(self, of: np.ndarray, depths: np.ndarray) -> np.ndarray:
        """Which pieces some of them are, or lie upstream of (boolean); ``depths`` as above."""
        inside = np.zeros(len(self.below), bool)
        inside[of] = True
        for depth in range(1, int(depths.max(initial=0)) + 1):
            at = np.flatnonzero(depths == depth)
            inside[at] |= inside[self.below[at]]
        return inside

    def joined(self, inside: np.ndarray, depths: np.ndarray) -> Joined:
        """What some pieces (boolean) are together: each that lies below another of them leads on."""
        longest, head, best, fall = self.longest.copy(), self.head.copy(), 0.0, 0.0
        at = np.flatnonzero(inside)
        for k in at[np.argsort(-depths[at], kind="stable")].tolist():
            b = self.below[k]
            if b >= 0 and inside[b]:
                _lengthen(longest, head, b, longest[k] + self.metres[k], head[k])
                continue
            drop, near = float(head[k] - self.water[k]), 1e-9 * best
            if longest[k] > best + near or (longest[k] >= best - near and drop > fall):
                best, fall = float(longest[k]), drop
        sums = self.sums[at].sum(axis=0)
        sums[2], sums[3] = self.sums[at, 2].min(), self.sums[at, 3].max()
        return Joined(sums, best, fall)


def add_to(sums: np.ndarray, at: int, more: np.ndarray) -> None:
    """Add what was added up in a tile to what was in others."""
    low, high = min(sums[at, 2], more[2]), max(sums[at, 3], more[3])
    sums[at] += more
    sums[at, 2], sums[at, 3] = low, high


def _lengthen(longest: np.ndarray, head: np.ndarray, at: int, metres: float, begins: float) -> None:
    near = 1e-9 * longest[at]
    if metres > longest[at] + near or (metres >= longest[at] - near and begins > head[at]):
        longest[at], head[at] = metres, begins


def find_pieces(
    ground: Ground, places: np.ndarray, crew: Crew, progress: Progress, streams: Streams | None = None
) -> Pieces:
    """Divide a ground by which of some cells (in ascending order) its water first meets; with ``streams``
    their metres in each, and the volume that stands below the water of its place, are added up, too.
    """
    frame, ways, water = ground.held.frame, ground.at_cells("ways", places), ground.at_cells("filled", places)
    to = runs_to(frame, places, ways)
    goal = Places(_within_tiles(ground, places))
    followed = follow(ground, goal, crew, progress.part(0.0, 0.4))
    n = len(places)
    sums, longest, head = np.zeros((n, ADDED)), np.zeros(n), water.copy()
    sums[:, 2], sums[:, 3] = np.inf, -np.inf
    asked = _within_tiles(ground, np.unique(to[to >= 0]))
    work = PieceWork(followed, places, asked, ground, streams)
    there = dict[int, tuple[int, float]]()
    done = crew.each(work, list(ground.tiling), progress.part(0.4, 1.0), "Measuring catchments")
    for _, found in sorted(done, key=lambda d: d[0]):
        for k, number in enumerate(found.number - 1):
            add_to(sums, number, found.sums[k])
            _lengthen(longest, head, number, found.longest[k], found.head[k])
        there.update(
            zip(found.asked.tolist(), zip(found.piece_there, found.metres_there, strict=True), strict=True)
        )
    below = np.array([int(there[c][0]) - 1 if c in there else -1 for c in to.tolist()])
    upper = np.minimum(places // frame.cols, np.maximum(to // frame.cols, 0))
    step = distances(frame)[upper, _kind(np.minimum(ways, 7))]
    metres = np.array([float(there[c][1]) if c in there else 0.0 for c in to.tolist()]) + step
    return Pieces(sums, longest, head, water, below, metres)


def _kind(way: np.ndarray) -> np.ndarray:
    return np.where(way & 1, 1, np.where(way & 2, 2, 0))
