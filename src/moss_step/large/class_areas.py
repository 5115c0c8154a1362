"""Areas and patches of classes on a ground in tiles."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from moss_step.formats.address import Place
from moss_step.formats.tiled import TiledFile
from moss_step.formats.windows import GridReader, GridSource
from moss_step.large.crew import Crew
from moss_step.large.held import OnDisk
from moss_step.large.outlines import Neighbours, Numbered, find_parts, outlined
from moss_step.large.telling import like
from moss_step.large.tiling import Tile, squares
from moss_step.large.whole import Fed, OnGrid, Told, told_of
from moss_step.model.class_map import NO_CLASS, ClassMap
from moss_step.model.errors import MossError
from moss_step.model.outcome import Outcome, Value
from moss_step.model.progress import Progress
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.typed import as_kind
from moss_step.science.zones.labelling import label_components
from moss_step.science.zones.outlines import class_shapes, largest_first, patch_columns
from moss_step.science.zones.tracing import Parts, by_number
from moss_step.steps.sight import TOUCH_AT, blind_outcome, hidden_in
from moss_step.steps.zones import areas_outcome, patches_outcome


@dataclass(frozen=True)
class Codes(Numbered):
    """Codes of classes as numbers from 1."""

    held: OnDisk

    @property
    def source(self) -> GridSource:
        """The file of the classes."""
        return self.held.source

    def numbers(self, tile: Tile, reader: GridReader) -> np.ndarray:
        """One more than each code; 0 for no class."""
        codes = self.classes_in(self.held.part(reader, tile.rows, tile.cols)[0]).codes
        return np.where(codes == NO_CLASS, 0, codes.astype(np.int32) + 1)

    def classes_in(self, value: Value) -> ClassMap:
        """The classes of a part of what is on the disk."""
        return as_kind(value, ClassMap)


class Hidden(Codes):
    """Ground that nobody sees as number 2, by how many see it."""

    def classes_in(self, value: Value) -> ClassMap:
        """The part that nobody sees, as a class of its own."""
        return hidden_in(as_kind(value, Surface))


@dataclass(frozen=True)
class Patches(Numbered):
    """Numbers of patches; ``part`` and ``number`` say which patch each part of a tile is of."""

    codes: Codes
    neighbours: Neighbours
    part: Mapping[str, np.ndarray]
    number: np.ndarray

    @property
    def source(self) -> GridSource:
        """The file of the classes."""
        return self.codes.source

    def for_tile(self, tile: Tile) -> Patches:
        """They, with the parts of one tile."""
        return replace(self, part={tile.name: self.part[tile.name]})

    def numbers(self, tile: Tile, reader: GridReader) -> np.ndarray:
        """The patch of each cell."""
        labels, _ = label_components(self.codes.numbers(tile, reader), self.neighbours, 0)
        result: np.ndarray = self.number[self.part[tile.name]][labels]
        return result


class ClassJob(OnGrid):
    """One work on classes."""

    @property
    def codes(self) -> Codes:
        """The classes of its grid."""
        return Codes(self.grid)

    @property
    def classes(self) -> ClassMap:
        """A class map like that on the disk."""
        return self.codes.classes_in(like(self.grid))

    def run(
        self, crew: Crew, target: TiledFile | None, folder: Place, cells: int, progress: Progress
    ) -> Told:
        """Do it."""
        return told_of(self.found(crew, cells, progress))

    def found(self, crew: Crew, cells: int, progress: Progress) -> Outcome:
        """What it gives."""
        raise NotImplementedError


class AreaJob(ClassJob):
    """One area for each class."""

    def found(self, crew: Crew, cells: int, progress: Progress) -> Outcome:
        """Outline all parts, and put those of a class together."""
        tiling, codes = squares(self.frame.shape, cells), self.codes
        parts, whole = outlined(codes, tiling, self.frame, crew, progress)
        if not len(whole.number):
            raise MossError("No cell has a class.", "Choose another class map.")
        order = np.argsort(parts.number, kind="stable")
        areas = np.bincount(whole.number - 1, whole.area, NO_CLASS + 1)
        found = Parts(parts.geometry[order], parts.number[order] - 1)
        return areas_outcome(self.settings, class_shapes(found, areas, self.classes))


class PatchJob(ClassJob):
    """Connected patches, the largest first."""

    def found(self, crew: Crew, cells: int, progress: Progress) -> Outcome:
        """Find patches, number those that are large enough, and outline them."""
        tiling, codes, near = squares(self.frame.shape, cells), self.codes, self.near
        whole, _ = find_parts(codes, tiling, self.frame, near, crew, progress.part(0.0, 0.3))
        order = largest_first(whole.cells, whole.area, self.settings.least_cells)
        number = np.zeros(len(whole.number) + 1, np.int32)
        number[order + 1] = np.arange(1, len(order) + 1)
        patches = Patches(codes, near, whole.part, number)
        parts, _ = outlined(patches, tiling, self.frame, crew, progress.part(0.3, 1.0))
        columns = patch_columns(whole.number[order] - 1, whole.cells[order], whole.area[order], self.classes)
        return self.outcome_of(Shapes(by_number(parts, len(order)), columns, self.frame.crs))

    @property
    def near(self) -> Neighbours:
        """Neighbours over which cells hang together."""
        near: Neighbours = self.settings.neighbours
        return near

    def outcome_of(self, result: Shapes) -> Outcome:
        """Patches with their findings."""
        return patches_outcome(result)


class BlindJob(PatchJob):
    """Connected ground that nobody sees, the largest first."""

    @property
    def codes(self) -> Codes:
        """What is hidden of its grid."""
        return Hidden(self.grid)

    @property
    def near(self) -> Neighbours:
        """Along edges and corners."""
        return TOUCH_AT

    def outcome_of(self, result: Shapes) -> Outcome:
        """Patches with their findings."""
        return blind_outcome(result)


def areas(fed: Fed, settings: Any) -> AreaJob | None:
    """Areas along the outlines of cells."""
    grid = fed["classes"]
    return AreaJob(grid, settings) if isinstance(grid, OnDisk) and settings.smoothing == 0 else None


def blind_patches(fed: Fed, settings: Any) -> BlindJob | None:
    """Patches that nobody sees."""
    grid = fed["seen"]
    return BlindJob(grid, settings) if isinstance(grid, OnDisk) else None


def patches(fed: Fed, settings: Any) -> PatchJob | None:
    """Patches without the figures of a surface."""
    grid = fed["classes"]
    return PatchJob(grid, settings) if isinstance(grid, OnDisk) and "surface" not in fed else None
