"""Surfaces between the points of a cloud in blocks, each with a margin: each block is sent the points in and
around it, and what was laid in all of them is put together strip by strip.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import NamedTuple

import numpy as np
from blake3 import blake3

from moss_step.formats.address import Place
from moss_step.formats.tiled import TiledFile
from moss_step.large.crew import Crew, Work
from moss_step.large.held import OnDisk
from moss_step.large.naming import name_by
from moss_step.large.passing import Passing
from moss_step.large.scratch import Scratch, scratch_in
from moss_step.large.telling import one_cell
from moss_step.large.tiling import Tile, Tiling, bands, within
from moss_step.large.whole import Fed, Told
from moss_step.model.cloud import Cloud
from moss_step.model.frame import Frame
from moss_step.model.progress import Progress
from moss_step.model.surface import Surface
from moss_step.model.typed import of_kind
from moss_step.science.points.blocks import MOST, Blocks, blocks_of
from moss_step.science.points.grids import Laying, quantity_between
from moss_step.steps.cloud_grids import Gridding, GridSettings, gridding
from moss_step.steps.results import surface_outcome
from moss_step.study.told import Said, merged, said_by


@dataclass(frozen=True)
class Kept:
    """Points of blocks, and what was laid between them, under a name."""

    scratch: Scratch
    name: str

    @property
    def points(self) -> str:
        """What points are kept under."""
        return f"{self.name}-points"

    @property
    def laid(self) -> str:
        """What was laid is kept under."""
        return f"{self.name}-laid"


class BlockLine:
    """Blocks that wait: the points of one are written once it is its turn, while others are worked on."""

    def __init__(self, laying: Laying, blocks: Blocks, kept: Kept, waiting: Sequence[Tile]) -> None:
        self._laying, self._blocks, self._kept, self._waiting = laying, blocks, kept, deque(waiting)

    def __len__(self) -> int:
        return len(self._waiting)

    def popleft(self) -> Tile:
        """The next block, whose points are there."""
        tile, laying = self._waiting.popleft(), self._laying
        points = laying.points(self._blocks.at(tile.row, tile.col, laying.margin))
        laid_on = [points.attributes[n] for n in laying.names]
        arrays = (np.ascontiguousarray(v) for v in (points.x, points.y, points.z, *laid_on))
        self._kept.scratch.save(self._kept.points, tile, *arrays)
        return tile


class LayWork(Work):
    """Lays a surface between the points of blocks; ``bare`` is how, with none of the points."""

    side_by_side = True

    def __init__(self, bare: Laying, names: tuple[str, ...], kept: Kept) -> None:
        self.bare, self.names, self.kept = bare, names, kept

    def read(self, tile: Tile) -> Cloud:
        """The points in and around a block."""
        arrays = self.kept.scratch.load_some(self.kept.points, tile, 3 + len(self.names))
        x, y, z, *laid_on = arrays
        held = dict(zip(self.names, laid_on, strict=True))
        return replace(self.bare.cloud, x=x, y=y, z=z, attributes=held)

    def work_out(self, tile: Tile, points: Cloud) -> np.ndarray:
        """Values of the cells of a block."""
        laid = self.bare.lay_block(points, tile.rows, tile.cols)
        shape = tile.bottom - tile.top, tile.right - tile.left
        return np.full(shape, np.nan, np.float32) if laid is None else laid.astype(np.float32, copy=False)

    def finish(self, tile: Tile, points: Cloud, laid: np.ndarray) -> int:
        """Keep them; gives how many points there were."""
        self.kept.scratch.save(self.kept.laid, tile, np.ascontiguousarray(laid))
        return len(points)


class Part(NamedTuple):
    """What is said of a part, and how many of its cells have no value."""

    said: Said
    voids: int


class PutWork(Work):
    """Puts what was laid in blocks together, and writes it."""

    side_by_side = True

    def __init__(
        self, like: Surface, frame: Frame, blocks: Sequence[Tile], kept: Kept, target: TiledFile | None
    ) -> None:
        self.like, self.frame, self.blocks, self.kept, self.target = like, frame, blocks, kept, target

    def for_tile(self, tile: Tile) -> PutWork:
        """The blocks that meet one tile."""
        meet = [b for b in self.blocks if _meet(b.rows, tile.rows) and _meet(b.cols, tile.cols)]
        return PutWork(self.like, self.frame, meet, self.kept, self.target)

    def read(self, tile: Tile) -> np.ndarray:
        """Values of a tile."""
        out = np.full((tile.bottom - tile.top, tile.right - tile.left), np.nan, np.float32)
        for block in self.for_tile(tile).blocks:
            rows, cols = _both(block.rows, tile.rows), _both(block.cols, tile.cols)
            some = self.kept.scratch.rows_of(self.kept.laid, block, within(rows, block.rows))
            out[within(rows, tile.rows), within(cols, tile.cols)] = some[:, within(cols, block.cols)]
        return out

    def work_out(self, tile: Tile, values: np.ndarray) -> Part:
        """What is said of them."""
        surface = replace(self.like, values=values, frame=self.frame.part(tile.rows, tile.cols))
        return Part(said_by(surface_outcome(surface)), int(np.isnan(values).sum()))

    def finish(self, tile: Tile, values: np.ndarray, part: Part) -> Part:
        """Write them."""
        if self.target is not None:
            self.target.write(tile.rows, tile.cols, values)
        return part


def _meet(a: slice, b: slice) -> bool:
    return bool(a.start < b.stop and b.start < a.stop)


def _both(a: slice, b: slice) -> slice:
    return slice(max(a.start, b.start), min(a.stop, b.stop))


@dataclass(frozen=True)
class CloudJob:
    """One surface between the points of a cloud."""

    asked: Gridding
    besides: bool = True

    @property
    def frame(self) -> Frame:
        """Where its cells lie."""
        return self.asked.frame

    @property
    def like(self) -> Surface:
        """Values in single precision."""
        return one_cell(self.frame, self.asked.cloud.unit, quantity_between(self.asked.settings.what))

    @cached_property
    def laying(self) -> Laying:
        """How the surface is laid."""
        asked, how = self.asked, self.asked.settings
        return Laying(asked.cloud, asked.frame, how.what, how.fill, how.between, asked.counting)

    def run(
        self, crew: Crew, target: TiledFile | None, folder: Place, cells: int, progress: Progress
    ) -> Told:
        """Lay blocks, and put them together."""
        laying = self.laying
        blocks = blocks_of(laying.cloud)
        kept = Kept(scratch_in(folder, Tiling(blocks.frame.shape, 1, 1)), self._name)
        tiles = [tile for place in blocks.places() if (tile := self._tile(blocks, *place)).size]
        bare = replace(
            laying, cloud=replace(laying.cloud.part(slice(0, 0)), attributes={}, head=None), counting=None
        )
        waiting = [tile for tile in tiles if not kept.scratch.has(kept.laid, tile)]
        line = BlockLine(laying, blocks, kept, waiting)
        for _ in crew.each(
            LayWork(bare, laying.names, kept), line, progress.part(0.0, 0.8), "Laying triangles"
        ):
            pass
        kept.scratch.drop(kept.points)
        work = PutWork(self.like, self.frame, tiles, kept, target)
        each = crew.each(
            work, list(bands(self.frame.shape, cells)), progress.part(0.8, 1.0), "Putting blocks together"
        )
        done = [part for _, part in sorted(each, key=lambda d: d[0])]
        findings, warnings, summary = merged([part.said for part in done])
        findings = self.asked.told(findings, sum(part.voids for part in done))
        return Told(findings, warnings, summary=summary, figure=self.asked.figure)

    @property
    def _name(self) -> str:
        """What blocks are kept under: how they are laid, and between which points."""
        near, digest = self.laying.near, blake3(max_threads=blake3.AUTO)
        for chunk in near.chunks():
            for values in (chunk.x, chunk.y, chunk.z, *chunk.attributes.values()):
                digest.update(np.ascontiguousarray(values).view(np.uint8).data)
        how = self.asked.settings, self.frame, digest.hexdigest(length=8)
        return f"cloud-{name_by(how, {})}"

    def _tile(self, blocks: Blocks, row: int, col: int) -> Tile:
        """The cells of a block."""
        rows, cols = self.laying.window(blocks.box(row, col))
        return Tile(row, col, rows.start, max(rows.stop, rows.start), cols.start, max(cols.stop, cols.start))


def grid(fed: Fed, settings: GridSettings) -> CloudJob | None:
    """The ground or the canopy of a large cloud; all else goes another way."""
    given, like = fed["cloud"], fed.get("like")
    cloud = None if isinstance(given, OnDisk | Passing) else of_kind(given, Cloud)
    if (
        cloud is None
        or settings.what not in ("ground", "canopy")
        or len(cloud) <= MOST
        or settings.fill <= 0.0
    ):
        return None
    frame = like.frame if isinstance(like, OnDisk | Passing | Surface) else None
    return CloudJob(gridding(settings, cloud, frame))
