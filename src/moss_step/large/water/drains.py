"""Streams of a ground in tiles, heights above them, and how far water runs."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import Any, NamedTuple

import numpy as np

from moss_step.formats.address import Place
from moss_step.formats.tiled import TiledFile
from moss_step.formats.windows import GridReader
from moss_step.large.crew import Crew, Work
from moss_step.large.tiling import Tile
from moss_step.large.water.ends import Followed, follow
from moss_step.large.water.ground import Ground
from moss_step.large.water.job import WaterJob, WaterOn, alone, ground_of, in_tile, like_ground
from moss_step.large.water.steep import carry_once
from moss_step.large.water.upstream import Streams, add_up_once, areas, find_ways_once, ground_area
from moss_step.large.whole import Fed, Told, told_of
from moss_step.model.findings import Finding
from moss_step.model.frame import Frame
from moss_step.model.outcome import Outcome
from moss_step.model.progress import Progress
from moss_step.model.surface import Surface
from moss_step.model.units import METRE, SQUARE_METRE
from moss_step.science.water.drainage import AtCells
from moss_step.science.water.neighbours import distances
from moss_step.science.water.network import Network, joined
from moss_step.steps.floods import NO_DRAIN
from moss_step.steps.results import surface_outcome
from moss_step.steps.streams import stream_outcome
from moss_step.steps.water import FILLED_FIRST, stream_area_of


def least_area(ground: Ground, asked: float | None) -> float:
    """Square metres that make a stream."""
    return asked if asked is not None else stream_area_of(ground_area(ground))


# --- streams


@dataclass(frozen=True)
class SomeCells:
    """Cells of a tile: their numbers in the ground, ways, and what is known there."""

    number: np.ndarray
    ways: np.ndarray
    there: AtCells


class StreamWork(Work):
    """Lists the stream cells of tiles."""

    side_by_side = True

    def __init__(self, streams: Streams) -> None:
        self.streams, self._reader = streams, streams.ground.reading()

    def read(self, _: Tile) -> GridReader:
        """Where heights are read from."""
        reader: GridReader = self._reader.get()
        return reader

    def work_out(self, tile: Tile, reader: GridReader) -> SomeCells:
        """What is known of the stream cells."""
        ground, at = self.streams.ground, np.flatnonzero(self.streams.cells(tile))
        r, c = np.divmod(at, tile.right - tile.left)
        ways, upstream, water = (
            ground.scratch.load(name, tile).reshape(-1)[at] for name in ("ways", "upstream", "filled")
        )
        area = areas(ground, tile).reshape(-1)[at]
        heights = reader.read(tile.rows, tile.cols).reshape(-1)[at]
        number = (tile.top + r) * ground.held.frame.cols + tile.left + c
        return SomeCells(number, ways, AtCells(upstream, area, water, heights))


@dataclass(frozen=True)
class StreamGround:
    """A ground of which the stream cells are known."""

    dem: Surface
    frame: Frame
    metres: np.ndarray
    number: np.ndarray
    known: AtCells

    def at(self, cells: np.ndarray) -> AtCells:
        """What is known at stream cells."""
        place = np.searchsorted(self.number, cells)
        return AtCells(*(some[place] for some in self.known))


class FoundStreams(NamedTuple):
    """Streams of a ground: how many square metres they have upstream, what is known of the ground at their
    cells, and their links.
    """

    ground: Ground
    least: float
    held: StreamGround
    links: Network


class StreamsOn(WaterOn):
    """A work on the streams of a ground."""

    @property
    def exponent(self) -> float:
        """Power of the slope that counts beside areas."""
        return 0.0

    def streams(self, folder: Place, cells: int, crew: Crew, progress: Progress) -> FoundStreams:
        """List the stream cells of all tiles, and join them."""
        ground = self.ground_in(folder, cells)
        add_up_once(ground, crew, progress.part(0.0, 0.8))
        some = Streams(ground, least_area(ground, self.settings.min_area), self.exponent)
        carry_once(some, crew, progress.part(0.8, 0.87))
        return FoundStreams(ground, some.least, *find_streams(some, crew, progress.part(0.87, 1.0)))


class StreamJob(StreamsOn):
    """The links of the streams, with their nodes beside them."""

    @property
    def exponent(self) -> float:
        """As the settings say."""
        return float(self.settings.slope_exponent)

    def run(
        self, crew: Crew, target: TiledFile | None, folder: Place, cells: int, progress: Progress
    ) -> Told:
        """Find them, and tell of them."""
        found = self.streams(folder, cells, crew, progress.part(0.0, 0.97))
        limits = found.least, ground_area(found.ground)
        return told_of(stream_outcome(found.held, found.links, limits, progress.part(0.97, 1.0)))


def find_streams(some: Streams, crew: Crew, progress: Progress) -> tuple[StreamGround, Network]:
    """Links of streams, and what is known of the ground at their cells."""
    ground = some.ground
    work, tiles = StreamWork(some), list(ground.tiling)
    parts = [part for _, part in crew.each(work, tiles, progress.part(0.0, 0.9), "Finding streams")]
    number = np.concatenate([p.number for p in parts])
    order = np.argsort(number)
    known = AtCells(*(np.concatenate(f)[order] for f in zip(*(p.there for p in parts), strict=True)))
    ways, number = np.concatenate([p.ways for p in parts])[order], number[order]
    frame = ground.held.frame
    found = joined(number, ways, known.upstream, frame.cols, progress.part(0.9, 1.0))
    return StreamGround(like_ground(ground.held), frame, distances(frame), number, known), found


# --- heights above streams, and lengths


@dataclass(frozen=True)
class Drains:
    """Water is followed to streams, whose height counts."""

    least: float
    lengths: bool = False

    def cells(self, ground: Ground, tile: Tile, reader: GridReader) -> np.ndarray:
        """Stream cells."""
        return Streams(ground, self.least).cells(tile)

    def values(self, ground: Ground, tile: Tile, reader: GridReader) -> np.ndarray:
        """Heights above the base."""
        return ground.heights(reader, tile.rows, tile.cols)


@dataclass(frozen=True)
class FollowJob(WaterJob):
    """A grid of what is known where the water of each cell ends."""

    found: dict[str, Followed] = field(default_factory=dict)
    """Where that is, once it is known."""

    def for_tile(self, tile: Tile) -> FollowJob:
        """It, with what is known at the rim of one tile."""
        return replace(self, found={name: one.for_tile(tile) for name, one in self.found.items()})


class DrainHeightJob(FollowJob):
    """How high each cell stands above the stream that its water first meets."""

    @property
    def like(self) -> Surface:
        """Heights."""
        dem = like_ground(self.grid)
        return Surface(np.zeros((1, 1), np.float32), dem.frame, dem.unit, "drain_height")

    def prepare(self, ground: Ground, crew: Crew, progress: Progress) -> None:
        """Follow water to streams."""
        add_up_once(ground, crew, progress.part(0.0, 0.9))
        goal = Drains(least_area(ground, self.settings.min_area))
        self.found["ends"] = follow(ground, goal, crew, progress.part(0.9, 1.0))

    def told(self, ground: Ground, tile: Tile, reader: GridReader) -> tuple[Outcome, int]:
        """Heights above the stream; none where the water meets none."""
        ends, z = self.found["ends"].ends(ground, tile, reader), ground.heights(reader, tile.rows, tile.cols)
        above = np.maximum(z - ends.value[ends.labels], np.float32(0.0))
        return surface_outcome(in_tile(self, tile, above), (FILLED_FIRST, NO_DRAIN)), 0

    def more(self, ground: Ground) -> tuple[Finding, ...]:
        """What made a stream."""
        return (Finding("min_area", least_area(ground, self.settings.min_area), SQUARE_METRE),)


@dataclass(frozen=True)
class Leaving:
    """Water is followed to where it leaves the ground."""

    lengths: bool = True

    def cells(self, ground: Ground, tile: Tile, reader: GridReader) -> np.ndarray:
        """None of its own: all water leaves at last."""
        return np.zeros((tile.bottom - tile.top, tile.right - tile.left), np.uint8)

    def values(self, ground: Ground, tile: Tile, reader: GridReader) -> np.ndarray:
        """Nothing is asked."""
        return np.zeros((tile.bottom - tile.top, tile.right - tile.left), np.float32)


class LengthJob(FollowJob):
    """How far water runs from each cell to where it leaves the ground."""

    @property
    def like(self) -> Surface:
        """Metres."""
        return Surface(np.zeros((1, 1), np.float32), like_ground(self.grid).frame, METRE, "length")

    def prepare(self, ground: Ground, crew: Crew, progress: Progress) -> None:
        """Follow water out."""
        find_ways_once(ground, crew, progress.part(0.0, 0.9))
        self.found["ends"] = follow(ground, Leaving(), crew, progress.part(0.9, 1.0))

    def told(self, ground: Ground, tile: Tile, reader: GridReader) -> tuple[Outcome, int]:
        """Metres."""
        ends = self.found["ends"].ends(ground, tile, reader)
        metres = np.where(ends.labels == 0, np.nan, ends.metres).astype(np.float32)
        return surface_outcome(in_tile(self, tile, metres), (FILLED_FIRST,)), 0


def streams(fed: Fed, settings: Any) -> StreamJob | None:
    """Streams by the area upstream, and by the slope."""
    return StreamJob(ground_of(fed), settings) if alone(fed) else None


def drain_height(fed: Fed, settings: Any) -> WaterJob | None:
    """Height above streams."""
    return DrainHeightJob(ground_of(fed), settings) if alone(fed) else None


def flow_length(fed: Fed, settings: Any) -> WaterJob | None:
    """Lengths of the ways down, on all of the ground."""
    return LengthJob(ground_of(fed), settings) if settings.side == "down" and alone(fed) else None
