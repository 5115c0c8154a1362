"""Contours of a ground in tiles: each band of rows is traced by itself, and lines are joined where bands
meet.
"""

from __future__ import annotations

from functools import partial
from typing import Any

import numpy as np

from moss_step.formats.address import Place
from moss_step.formats.tiled import TiledFile
from moss_step.formats.windows import GridReader
from moss_step.large.crew import Crew, Once, Work
from moss_step.large.held import OnDisk
from moss_step.large.look import look_at
from moss_step.large.telling import like
from moss_step.large.tiling import Tile, bands
from moss_step.large.whole import Fed, OnGrid, Told, told_of
from moss_step.model.progress import Progress
from moss_step.model.surface import Surface
from moss_step.model.typed import as_kind
from moss_step.science.relief.contour_tracing import Pieces, in_place, join_bands, trace_band, trace_bands
from moss_step.science.relief.contours import (
    asked_levels,
    check_lines,
    check_points,
    check_shape,
    climbed,
    drawn,
)
from moss_step.steps.contours import contours_outcome
from moss_step.steps.fields import heights_in


class ClimbWork(Work):
    """Measures how far some rows and columns go up and down, tile by tile."""

    side_by_side = True

    def __init__(self, dem: OnDisk) -> None:
        self.dem, self._reader = dem, Once(partial(GridReader, dem.source))

    def read(self, tile: Tile) -> np.ndarray:
        """Heights with the row below and the column beside."""
        rows = slice(tile.top, min(tile.bottom + 1, self.dem.frame.rows))
        values: np.ndarray = self._reader.get().read(
            rows, slice(tile.left, min(tile.right + 1, self.dem.frame.cols))
        )
        return values

    def work_out(self, tile: Tile, z: np.ndarray) -> float:
        """Up and down."""
        return climbed(z, (tile.top, tile.left), self.dem.frame.shape)


class TraceWork(Work):
    """Traces contours in bands."""

    side_by_side = True

    def __init__(self, dem: OnDisk, levels: np.ndarray) -> None:
        self.dem, self.levels = dem, levels
        self._reader = Once(partial(GridReader, dem.source))

    def read(self, tile: Tile) -> np.ndarray:
        """Heights above the base."""
        return self.dem.above_base(self._reader.get().read(tile.rows, tile.cols))

    def work_out(self, tile: Tile, z: np.ndarray) -> tuple[Pieces, Pieces]:
        """Lines of the band."""
        return trace_band(z, (tile.top, tile.bottom - 1), self.dem.frame.rows, self.levels - self.dem.base)


class ContourJob(OnGrid):
    """The contours of a ground."""

    def run(
        self, crew: Crew, target: TiledFile | None, folder: Place, cells: int, progress: Progress
    ) -> Told:
        """Look at the heights, trace all bands, and join them."""
        s, frame = self.settings, self.frame
        check_shape(frame.shape)
        summary = look_at(self.grid, crew, bands(frame.shape, cells), progress.part(0.0, 0.1)).summary
        span = (summary.low, summary.high) if summary.count else None
        heights = heights_in(s.levels)
        if not heights:
            tiles = list(bands(frame.shape, cells))
            climb = crew.each(ClimbWork(self.grid), tiles, progress.part(0.1, 0.2), "Looking at heights")
            check_points(sum(c for _, c in climb) / s.interval, s.interval, s.however_many)
        levels, place = asked_levels(span, heights, s.interval, s.base)
        found = self._traced(crew, levels, progress.part(0.2, 0.8))
        made = in_place(join_bands(found), levels, frame, progress.part(0.8, 0.9))
        check_lines(made, span, bool(heights), s.interval)
        unit = as_kind(like(self.grid), Surface).unit
        shapes = drawn(made, (levels, place), (frame, unit), s.index_every, s.within, progress.part(0.9, 1.0))
        return told_of(contours_outcome(s, shapes, unit))

    def _traced(self, crew: Crew, levels: np.ndarray, progress: Progress) -> list[tuple[Pieces, Pieces]]:
        """Lines of all bands in their order."""
        tiles = [
            Tile(n, 0, first, last + 1, 0, self.frame.cols)
            for n, (first, last) in enumerate(trace_bands(self.frame.shape))
        ]
        some = crew.each(TraceWork(self.grid, levels), tiles, progress, "Tracing")
        found = {tile.row: lines for tile, lines in some}
        return [found[n] for n in range(len(tiles))]


def contours(fed: Fed, settings: Any) -> ContourJob | None:
    """Contours of the ground as it lies: not smoothed first."""
    dem = fed["dem"]
    return ContourJob(dem, settings) if isinstance(dem, OnDisk) and not settings.smooth else None
