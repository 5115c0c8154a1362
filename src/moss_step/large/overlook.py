"""A ground that is looked over as a whole by all who work: what blocks, and the tiles of it, are made once in
files that everyone maps; then rays go out in bands, and targets are asked for lane by lane.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np

from moss_step.formats.address import Place
from moss_step.formats.windows import GridReader
from moss_step.large.crew import Crew, Once, Work
from moss_step.large.held import OnDisk
from moss_step.large.maps import begin_map, map_grid, write_rows
from moss_step.large.naming import name_by
from moss_step.large.scratch import ScratchIn
from moss_step.large.telling import like
from moss_step.large.tiling import Tile, Tiling
from moss_step.large.whole import Fed
from moss_step.model.arrays import read_only
from moss_step.model.errors import MossError
from moss_step.model.frame import Frame, check_same_frame
from moss_step.model.mapped import let_go
from moss_step.model.outcome import Value
from moss_step.model.progress import Progress
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.typed import as_kind, of_kind
from moss_step.model.units import METRE
from moss_step.science.sight.looking import Post, note_hiding, sheaves_out
from moss_step.science.sight.observer import Observer, Sight, bend_of, in_metres, sizes_of
from moss_step.science.sight.rays import bounds_of, patches_of, tiles_of
from moss_step.steps.declare import Inputs
from moss_step.steps.observers import blocking, observers_of
from moss_step.study.declared import as_part

InRows = Callable[[Sight, Post, tuple[int, int], np.ndarray], np.ndarray]
"""Gives what an observer finds in some rows, with the places that are looked at first."""
_AT_ONCE = 64
"""Bands of rays that are sent out from one observer, for all who work."""
_SHARE, _STEP = 8, 128
"""Rays take longer than other work on a cell: lanes have the first part of the cells of other tiles, and a
multiple of so many rows.
"""


@dataclass(frozen=True)
class Standing:
    """A ground on the disk with what stands on it: another grid on the disk, and shapes."""

    dem: OnDisk
    obstacles: OnDisk | None
    shapes: Mapping[str, Value]
    settings: Any

    @property
    def afar(self) -> bool:
        """Whether it lies at an address, where no file can be mapped."""
        return self.dem.source.at is not None

    def name_with(self, how: object) -> str:
        """A short name of it and of how it is looked over."""
        air = self.settings.curvature, self.settings.refraction, self.settings.barrier_height
        return name_by((air, how), {**self._grids, **self.shapes})

    @property
    def bare(self) -> bool:
        """Whether nothing stands on it."""
        return self.obstacles is None and not self.shapes

    @property
    def _grids(self) -> dict[str, OnDisk]:
        return {"dem": self.dem} | ({} if self.obstacles is None else {"obstacles": self.obstacles})

    def readers(self) -> dict[str, GridReader]:
        """What reads its grids."""
        return {n: GridReader(held.source) for n, held in self._grids.items()}

    def read(self, readers: Mapping[str, GridReader], tile: Tile) -> Read:
        """Its grids in a tile."""
        parts = {n: held.part(readers[n], tile.rows, tile.cols) for n, held in self._grids.items()}
        surfaces = {n: as_part(part, self._grids[n].base) for n, (part, _) in parts.items()}
        return Read(surfaces, " ".join(wrong for _, wrong in parts.values() if wrong))

    def top(self, read: Read) -> tuple[Surface, Surface | None]:
        """The ground that was read, and the surface that blocks."""
        standing = blocking(self.settings.barrier_height, {**self.shapes, **read.surfaces})
        return as_kind(read.surfaces["dem"], Surface), standing


class Read(NamedTuple):
    """What was read of a ground and what stands on it, and what is wrong with the files."""

    surfaces: Mapping[str, Value]
    wrong: str


@dataclass(frozen=True)
class Overlook:
    """A ground that was made ready under a name, lane by lane."""

    standing: Standing
    scratch: ScratchIn
    name: str

    @property
    def frame(self) -> Frame:
        """Frame of the ground."""
        return self.standing.dem.frame

    def map(self, what: str) -> Path:
        """The file of a grid that all who work map."""
        return self.scratch.folder / f"{self.name}-{what}.map"

    def sight(self) -> Sight:
        """The ground, mapped."""
        frame, shape, settings = self.frame, self.frame.shape, self.standing.settings
        ground = map_grid(self.map("ground"), shape, np.float32)
        top = ground if self.standing.bare else map_grid(self.map("top"), shape, np.float32)
        base = self.standing.dem.base * as_kind(like(self.standing.dem), Surface).metres_per_height
        tiles, *bounds = (self._bound(k) for k in range(4))
        bend = bend_of(settings.curvature, settings.refraction)
        return Sight(
            Surface(ground, frame, METRE), read_only(ground), read_only(top), tiles,
            (bounds[0], bounds[1], bounds[2]), sizes_of(frame), bend, base,
        )  # fmt: skip

    def where(self, rows: slice = slice(None)) -> np.ndarray:
        """Some rows of the file that the first rays note in where cells are hidden from."""
        return map_grid(self.map("where"), self.frame.shape, np.int32, writing=True)[rows]

    def make_ready(self, crew: Crew, progress: Progress) -> tuple[str, ...]:
        """Make the files of the ground; gives what is wrong with its sources.

        Raises MossError for a ground without values, and where the disk has no room.
        """
        for what in ("ground",) if self.standing.bare else ("ground", "top"):
            begin_map(self.map(what), self.frame.shape, np.float32)
        tiling, cells, wrong = self.scratch.tiling, 0, dict[str, None]()
        for _, (some, what) in crew.each(ReadyWork(self), list(tiling), progress, "Making the ground ready"):
            cells += some
            wrong.update({what: None} if what else {})
        if cells == 0:
            raise MossError("The ground holds no values.", "Choose another ground.")
        patches = np.concatenate([self.scratch.rows_of(self._patches, t, slice(None)) for t in tiling])
        self.scratch.drop(self._patches)
        first = tiling.tile(0, 0)
        for k, bound in enumerate((tiles_of(patches), *bounds_of(patches))):
            self.scratch.save(f"{self.name}-bound{k}", first, bound)
        return tuple(wrong)

    def _bound(self, number: int) -> np.ndarray:
        name, first = f"{self.name}-bound{number}", self.scratch.tiling.tile(0, 0)
        return read_only(np.asarray(self.scratch.rows_of(name, first, slice(None))))

    @property
    def _patches(self) -> str:
        return f"{self.name}-patches"

    def keep(self, tile: Tile, ground: np.ndarray, top: np.ndarray, patches: np.ndarray) -> None:
        """Write a lane of heights into the files."""
        write_rows(self.map("ground"), tile.top, ground)
        if not self.standing.bare:
            write_rows(self.map("top"), tile.top, top)
        self.scratch.save(self._patches, tile, patches)

    def send_rays(self, crew: Crew, post: Post, progress: Progress) -> None:
        """Note where cells are most likely hidden from one observer."""
        begin_map(self.map("where"), self.frame.shape, np.int32)
        count = sheaves_out(self.sight(), post)
        each = max(count // _AT_ONCE // 4, 1) * 4  # one to each side
        bands = [Tile(k, 0, at, min(at + each, count), 0, 1) for k, at in enumerate(range(0, count, each))]
        for _ in crew.each(RayWork(self, post), bands, progress, "Looking along rays"):
            pass

    def clear(self) -> None:
        """Remove the files that all have mapped."""
        for what in ("ground", "top", "where"):
            self.map(what).unlink(missing_ok=True)
        for k in range(4):
            self.scratch.drop(f"{self.name}-bound{k}")


def standing_on(fed: Fed, settings: Any, besides: Collection[str] = ()) -> Standing | None:
    """A ground on the disk with what stands on it; None where a grid does not lie there. Others ``besides``
    are let be.

    Raises MossError where obstacles do not lie cell on cell with the ground.
    """
    dem, obstacles, barriers = fed["dem"], fed.get("obstacles"), of_kind(fed.get("barriers"), Shapes)
    known = {"dem", "obstacles", "barriers", "observers", *besides}
    if not isinstance(dem, OnDisk) or not known.issuperset(fed):
        return None
    if obstacles is not None and not isinstance(obstacles, OnDisk):
        return None
    if obstacles is not None:
        check_same_frame(obstacles.frame, dem.frame, "The obstacles and the ground")
    return Standing(dem, obstacles, {} if barriers is None else {"barriers": barriers}, settings)


def observed_on(fed: Fed, settings: Any, standing: Standing) -> tuple[Observer, ...]:
    """The observers of a step that are on.

    Raises MossError as ``observers_of`` does.
    """
    observers = of_kind(fed.get("observers"), Shapes)
    given: Inputs = {} if observers is None else {"observers": observers}
    return tuple(observers_of(settings, given, standing.dem.frame))


def lanes(shape: tuple[int, int], cells: int) -> Tiling:
    """Tiles as wide as the ground that it is looked over in: low ones, so that work on one soon ends."""
    return Tiling(shape, max(cells // _SHARE // shape[1] // _STEP, 1) * _STEP, shape[1])


@contextmanager
def overlooked(
    standing: Standing, folder: Place, cells: int, crew: Crew, progress: Progress
) -> Iterator[tuple[Overlook, tuple[str, ...]]]:
    """A ground that is made ready for as long as the block goes, and what is wrong with its files.

    Raises MossError for a ground without values, and where the disk has no room.
    """
    if not isinstance(folder, Path):
        raise TypeError("Files at an address cannot be mapped.")
    tiling = lanes(standing.dem.frame.shape, cells)
    over = Overlook(standing, ScratchIn(tiling, folder), f"overlook-{standing.name_with(())}")
    try:
        yield over, over.make_ready(crew, progress)
    finally:
        over.clear()


class ReadyWork(Work):
    """Makes lanes of a ground ready."""

    def __init__(self, over: Overlook) -> None:
        self.over = over
        self._readers = Once(over.standing.readers)

    def read(self, tile: Tile) -> Read:
        """The ground and what stands on it."""
        return self.over.standing.read(self._readers.get(), tile)

    def work_out(self, tile: Tile, read: Read) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Heights in metres: the ground, and what blocks, with the highest of its patches."""
        ground, top, _ = in_metres(*self.over.standing.top(read))
        return ground, top, patches_of(read_only(top))

    def finish(
        self, tile: Tile, read: Read, found: tuple[np.ndarray, np.ndarray, np.ndarray]
    ) -> tuple[int, str]:
        """Write them; how many cells have a height, and what is wrong."""
        self.over.keep(tile, *found)
        return int(np.count_nonzero(~np.isnan(found[0]))), read.wrong


class RayWork(Work):
    """Sends bands of rays out from an observer: rows of a tile are numbers of sheaves."""

    def __init__(self, over: Overlook, post: Post) -> None:
        self.over, self.post = over, post
        self._sight = Once(over.sight)

    def read(self, tile: Tile) -> None:
        """Nothing: all of the ground is mapped."""

    def work_out(self, tile: Tile, read: None) -> None:
        """Note where cells are hidden from."""
        sight, where = self._sight.get(), self.over.where()
        note_hiding(sight, self.post, (tile.top, tile.bottom), where)
        let_go(where, sight.ground, sight.top)


class FromOne(Work):
    """What comes of one observer, lane by lane."""

    def __init__(self, over: Overlook, post: Post) -> None:
        self.over, self.post = over, post
        self._sight = Once(over.sight)

    def look(self, found: InRows, rows: tuple[int, int]) -> np.ndarray:
        """What is found in some rows."""
        sight, where = self._sight.get(), self.over.where(slice(*rows))
        result = found(sight, self.post, rows, where)
        let_go(where, sight.ground, sight.top)
        return result
