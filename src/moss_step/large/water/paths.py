"""Ways of water down from places, and the longest ones to them, on a ground in tiles: followed from tile to
tile.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np

from moss_step.formats.address import Place
from moss_step.formats.tiled import TiledFile
from moss_step.large.crew import Crew
from moss_step.large.held import OnDisk
from moss_step.large.water.ground import Ground
from moss_step.large.water.job import WaterOn, ground_of, like_ground
from moss_step.large.water.springs import farthest, first_of
from moss_step.large.water.upstream import find_ways_once
from moss_step.large.whole import Fed, Told, told_of
from moss_step.model.frame import Frame
from moss_step.model.progress import Progress
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.typed import of_kind
from moss_step.science.water.kernels.neighbours import NONE, OUT
from moss_step.science.water.kernels.trace import path_down
from moss_step.science.water.neighbours import distances
from moss_step.steps.ways import path_outcome, starts_of


@dataclass(frozen=True)
class Paced:
    """A ground on the disk, whose cells have distances between them."""

    held: OnDisk

    @property
    def dem(self) -> Surface:
        """A surface like it."""
        return like_ground(self.held)

    @property
    def frame(self) -> Frame:
        """Frame of the ground."""
        return self.held.frame

    @cached_property
    def metres(self) -> np.ndarray:
        """Distances to neighbours by row."""
        return distances(self.held.frame)


def down_from(ground: Ground, cell: int, progress: Progress) -> np.ndarray:
    """Cells from one to where its water leaves the ground, as ``kernels.trace.path_down`` finds them."""
    parts = list[np.ndarray]()
    while True:
        progress.at(0.0, "Following the water")
        tile = ground.tile_of(cell)
        ways = ground.scratch.window("ways", tile, 1, NONE)
        beyond = np.ones(ways.shape, bool)
        beyond[1:-1, 1:-1] = False
        ways[beyond] = OUT  # the next tile goes on from there
        own = path_down(ways, int(ground.in_frame(tile, np.array([cell]))[0]))
        cells = ground.out_of_frame(tile, own)
        if not beyond.reshape(-1)[own[-1]]:
            return np.concatenate([*parts, cells])
        parts.append(cells[:-1])
        cell = int(cells[-1])


def up_from(ground: Ground, begin: list[int], crew: Crew, progress: Progress) -> list[np.ndarray]:
    """Cells of the longest way to each of some cells, from its spring on, as ``kernels.trace.longest_up``
    finds them.
    """
    found = list[np.ndarray]()
    springs = farthest(ground, begin, crew, progress.part(0.0, 0.9))
    for cell, some in zip(begin, springs, strict=True):
        paths = [down_from(ground, int(spring), progress.part(0.9, 1.0)) for spring in some]
        paths = [path[: int(np.flatnonzero(path == cell)[0]) + 1] for path in paths]
        found.append(first_of(paths, ground.held.frame.cols))
    return found


@dataclass(frozen=True)
class PathJob(WaterOn):
    """Paths down from places, or to them."""

    starts: Shapes | None = None

    def run(
        self, crew: Crew, target: TiledFile | None, folder: Place, cells: int, progress: Progress
    ) -> Told:
        """Find ways, and follow them."""
        places = starts_of(self.settings, self.starts, self.frame.crs)
        ground = self.ground_in(folder, cells)
        begin = [ground.cell_at(x, y) for x, y in places]
        find_ways_once(ground, crew, progress.part(0.0, 0.9))
        part = progress.part(0.9, 1.0)
        if self.settings.side == "down":
            paths = [down_from(ground, cell, part) for cell in begin]
        else:
            paths = up_from(ground, begin, crew, part)
        return told_of(path_outcome(self.settings, Paced(self.grid), paths, ground.heights_at))


def flow_path(fed: Fed, settings: Any) -> PathJob | None:
    """Paths down from places, or up."""
    starts = of_kind(fed["starts"], Shapes) if "starts" in fed else None
    return PathJob(ground_of(fed), settings, starts) if isinstance(fed["dem"], OnDisk) else None
