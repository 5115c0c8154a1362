"""Cut and fill inside outlines on a ground in strips: what each row of an outline holds is added up where the
row lies, and all rows of an outline once all strips are done.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from functools import cache, cached_property, partial, reduce
from operator import or_
from typing import Any, NamedTuple

import numpy as np
import shapely

from moss_step.formats.address import Place
from moss_step.formats.tiled import TiledFile
from moss_step.formats.windows import GridReader
from moss_step.large.crew import Crew, Once, Work
from moss_step.large.held import OnDisk
from moss_step.large.kept_strips import Found, Kept, lies_on, meeting, strips_in, surface_around
from moss_step.large.passing import Passing
from moss_step.large.telling import like, one_cell
from moss_step.large.tiling import Tile, Tiling, widened, within
from moss_step.large.whole import Fed, NotInTilesError, Told
from moss_step.model.arrays import Relief, relief_of
from moss_step.model.errors import MossError
from moss_step.model.frame import Frame
from moss_step.model.mapped import blocks_of, let_go, room_for
from moss_step.model.outcome import Value
from moss_step.model.progress import Progress
from moss_step.model.shapes import Shapes
from moss_step.model.summary import summarise, together
from moss_step.model.surface import Surface
from moss_step.model.typed import as_kind, of_kind
from moss_step.science.earthwork.bases import edge_part, plane_base, rim_places
from moss_step.science.earthwork.kernels.blocks import SUMS
from moss_step.science.earthwork.outline import Base, Outline, base_at, moved_of
from moss_step.steps.cut_fill import (
    CutFillSettings,
    Reckoned,
    Reckoning,
    beside_of,
    counts,
    cut_fill,
    depth_of,
    figure_of,
    findings_of,
    height_of,
    longer_in,
    outlines_of,
    remarks,
    unit_remarks,
)
from moss_step.study.declared import PART_READ, window_of

Made = Callable[[np.ndarray, np.ndarray], np.ndarray]
"""What is made of heights and those of a base."""


@dataclass(frozen=True)
class Asked:
    """What is reckoned: the ground, the rows and columns of it around the outlines, these, what they are
    reckoned against, and the base that lies on the disk, too.
    """

    grid: OnDisk
    window: tuple[slice, slice]
    settings: CutFillSettings
    areas: Shapes
    base: OnDisk | None

    @cached_property
    def frame(self) -> Frame:
        """Where the part around the outlines lies."""
        return self.grid.frame.part(*self.window)

    def outlines(self) -> list[Outline]:
        """The outlines over that part.

        Raises MossError for what is no clean area, or lies beyond it.
        """
        return [Outline(self.frame, geometry) for geometry in self.areas.geometry]

    def read(self, held: OnDisk, reader: GridReader, rows: slice) -> tuple[Surface, str]:
        """Some rows of the part, and what is wrong with the file there."""
        top, cols = self.window[0].start, self.window[1]
        value, wrong = held.part(reader, slice(rows.start + top, rows.stop + top), cols)
        return as_kind(value, Surface), wrong


class Strip(NamedTuple):
    """What is read of a strip: heights with a row more on each side, those of the base, and what is wrong
    with the files.
    """

    surface: Surface
    base: Surface | None
    wrong: str


class _StripWork(Work):
    """Works on strips of a part of a ground."""

    side_by_side = True

    def __init__(self, asked: Asked) -> None:
        self.asked = asked
        self._reader = Once(partial(GridReader, asked.grid.source))
        self._outlines = Once(asked.outlines)

    def heights(self, rows: slice, margin: int) -> tuple[Surface, str]:
        """Heights of some rows with more around them, and what is wrong with the rows themselves: those
        around them have no heights where they are damaged.
        """
        around, read = widened(rows, margin, self.asked.frame.rows), self.asked.read
        surface, wrong = read(self.asked.grid, self._reader.get(), around)
        if not wrong:
            return surface, ""
        values = np.full_like(surface.values, np.nan)
        own, wrong = read(self.asked.grid, self._reader.get(), rows)
        values[within(rows, around)] = own.values
        return replace(surface, values=values), wrong


class LowestWork(_StripWork):
    """Finds the lowest height of each outline in strips."""

    def read(self, tile: Tile) -> tuple[Surface, str]:
        """Heights of a strip."""
        return self.heights(tile.rows, 0)

    def work_out(self, tile: Tile, read: tuple[Surface, str]) -> np.ndarray:
        """The lowest of each outline; infinite where there is none."""
        outlines, heights = self._outlines.get(), read[0].values
        found = np.full(len(outlines), np.inf)
        for k, outline in enumerate(outlines):
            rows, cols = meeting(outline, tile.rows)
            shares, part = outline.own_shares(rows), heights[within(rows, tile.rows), cols]
            found[k] = part[(shares > 0) & np.isfinite(part)].min(initial=np.inf)
        return found


class VolumeWork(_StripWork):
    """Adds up the rows of outlines in strips, and writes their depths. ``bases`` are those of the outlines,
    None for what lies on the disk, or is kept.
    """

    def __init__(self, asked: Asked, bases: Sequence[Base | None], kept: Kept) -> None:
        super().__init__(asked)
        self.bases, self.kept = bases, kept
        self._base_reader = Once(self._open_base)

    def _open_base(self) -> GridReader | None:
        return None if self.asked.base is None else GridReader(self.asked.base.source)

    def read(self, tile: Tile) -> Strip | Found:
        """Heights of a strip, and of the base; or what an earlier run found."""
        before = self.kept.load(tile)
        if before is not None:
            return before
        surface, wrong = self.heights(tile.rows, 1)
        base, damaged = self._base_in(tile.rows)
        return Strip(surface, base, wrong or damaged)

    def _base_in(self, rows: slice) -> tuple[Surface | None, str]:
        """The base that lies on the disk, in some rows, and what is wrong with its file there."""
        held, reader = self.asked.base, self._base_reader.get()
        return (None, "") if held is None or reader is None else self.asked.read(held, reader, rows)

    def work_out(self, tile: Tile, strip: Strip | Found) -> tuple[Found, np.ndarray | None]:
        """What is in it, and the depths."""
        if isinstance(strip, Found):
            return strip, None
        frame, around = self.asked.frame, widened(tile.rows, 1, self.asked.frame.rows)
        own = within(tile.rows, around)
        heights = strip.surface.values[own]
        longer = longer_in(strip.surface.part_of(0.0), min(frame.shape) > 1)[own]
        depths = np.full(heights.shape, np.nan)
        lines = [np.empty((0, 1 + 2 * SUMS))]
        for k, outline in enumerate(self._outlines.get()):
            rows, _ = meeting(outline, tile.rows)
            if rows.start == rows.stop:
                continue
            under = strip.base.values if strip.base is not None else self._under(k, outline, tile)
            sums = outline.sums(heights, under, tile.top), outline.sums(longer, 0.0, tile.top)
            lines.append(np.column_stack([np.full(len(sums[0]), float(k)), *sums]))
            _lay(outline, heights, under, tile, depths, depth_of)
        relief, short = reduce(or_, map(relief_of, depths), Relief()), depths.astype(np.float32)
        wrong = (strip.wrong,) if strip.wrong else ()
        return Found(np.concatenate(lines), relief, summarise(short), wrong), short

    def _under(self, k: int, outline: Outline, tile: Tile) -> Base:
        """The base of an outline, as rows of the strip where it is a grid."""
        base = self.bases[k]
        if base is not None:
            return base
        rows, cols = meeting(outline, tile.rows)
        part = self.kept.scratch.load(_edge_name(self.kept.name, k), tile)
        under = np.full((tile.bottom - tile.top, tile.right - tile.left), np.nan, part.dtype)
        under[within(rows, tile.rows), cols] = part
        return under

    def bases_in(self, tile: Tile) -> np.ndarray:
        """Heights of the bases inside the outlines in a strip.

        Raises MossError for damaged bytes.
        """
        surface, wrong = self.heights(tile.rows, 0)
        base, damaged = self._base_in(tile.rows)
        if wrong or damaged:
            raise MossError(wrong or damaged, "Fetch the file again.")
        out = np.full_like(surface.values, np.nan)
        for k, outline in enumerate(self._outlines.get()):
            rows, _ = meeting(outline, tile.rows)
            if rows.start < rows.stop:
                under = base.values if base is not None else self._under(k, outline, tile)
                _lay(outline, surface.values, under, tile, out, height_of)
        return out

    def finish(self, tile: Tile, _: Strip | Found, made: tuple[Found, np.ndarray | None]) -> Found:
        """Write and keep them, unless something of the strip could not be read."""
        return self.kept.written(tile, *made)


def _lay(outline: Outline, heights: np.ndarray, base: Base, tile: Tile, out: np.ndarray, what: Made) -> None:
    """Lay what is made of the heights in an outline and those of its base into a strip."""
    rows, cols = meeting(outline, tile.rows)
    across = np.arange(cols.start, cols.stop)
    for some in blocks_of(heights[within(rows, tile.rows), cols]):
        part = slice(rows.start + some.start, rows.start + some.stop)
        own = within(part, tile.rows)
        at = own if isinstance(base, np.ndarray) else part  # a grid has the rows of the strip alone
        made = what(heights[own, cols], base_at(base, np.arange(at.start, at.stop), across))
        inside = counts(outline.own_shares(part), heights[own, cols])
        out[own, cols] = np.where(inside, made, out[own, cols])


def _edge_name(name: str, k: int) -> str:
    return f"{name}-edge{k}"


@dataclass(frozen=True)
class VolumeJob:
    """Cut and fill of outlines on one ground; ``fed`` tell where they came from."""

    asked: Asked
    fed: Fed
    besides: bool = True

    @property
    def frame(self) -> Frame:
        """Of the part around the outlines."""
        return self.asked.frame

    @property
    def like(self) -> Surface:
        """Depths in single precision."""
        return one_cell(self.frame, as_kind(like(self.asked.grid), Surface).unit, "difference")

    def run(
        self, crew: Crew, target: TiledFile | None, folder: Place, cells: int, progress: Progress
    ) -> Told:
        """Find bases, add up strip by strip, and put together."""
        asked, outlines = self.asked, self.asked.outlines()
        named: dict[str, OnDisk | Value | None] = {
            "surface": asked.grid, "area": asked.areas, "base": asked.base,
        }  # fmt: skip
        kept = strips_in(folder, self.frame, cells, target, ("volumes", asked.settings), named)
        tiling = kept.scratch.tiling
        bases = self._bases(crew, outlines, kept, progress.part(0.0, 0.2))
        work = VolumeWork(asked, bases, kept)
        each = crew.each(work, list(tiling), progress.part(0.2, 1.0), "Reckoning outlines")
        done = [found for _, found in sorted(each, key=lambda d: d[0])]
        if reduce(or_, [found.relief for found in done]).blurred:
            raise NotInTilesError
        made = self._made(outlines, np.concatenate([found.lines for found in done]))
        after = progress.part(1.0, 1.0)
        told = self._told(made, partial(self._base_heights, work, tiling, after), after)
        wrong = tuple(dict.fromkeys(w for found in done for w in found.wrong))
        return replace(told, summary=together([found.summary for found in done]), wrong=wrong)

    def _made(self, outlines: list[Outline], lines: np.ndarray) -> list[Reckoned]:
        """What is moved in each outline, from the lines of all strips in order."""
        metres, result = as_kind(like(self.asked.grid), Surface).metres_per_height, list[Reckoned]()
        own = lines[np.argsort(lines[:, 0], kind="stable")]
        ends = np.searchsorted(own[:, 0], np.arange(len(outlines) + 1))
        for outline, first, last in zip(outlines, ends, ends[1:], strict=False):
            moved, ground = (np.ascontiguousarray(s) for s in np.split(own[first:last, 1:], 2, axis=1))
            result.append(Reckoned(outline, 0.0, moved_of(moved, metres), moved_of(ground, 1.0).cut))
        return result

    def _told(self, made: list[Reckoned], bases: Callable[[], Surface], progress: Progress) -> Told:
        asked, sample = self.asked, as_kind(like(self.asked.grid), Surface)
        findings = findings_of(asked.settings, self.frame, asked.areas, made)
        said = (*unit_remarks(sample), *remarks(self.frame, made, asked.settings.against))
        corners = cache(partial(self._around, shapely.get_coordinates(asked.areas.geometry), progress))
        beside = beside_of(
            asked.settings, self.fed, asked.areas, Reckoning(made, findings, said, corners, bases)
        )
        part = () if self.frame.shape == asked.grid.frame.shape else (PART_READ,)
        return Told(findings, (*said, *part), figure=figure_of(findings), beside=beside)

    def _base_heights(self, work: VolumeWork, tiling: Tiling, progress: Progress) -> Surface:
        """Heights of the bases inside the outlines."""
        sample = as_kind(like(self.asked.grid), Surface)
        cells = room_for(self.frame.rows * self.frame.cols, sample.values.dtype, True)
        out = cells.reshape(self.frame.shape)
        for n, tile in enumerate(tiling):
            progress.at(n / len(tiling), "Laying bases")
            out[tile.rows] = work.bases_in(tile)
            let_go(out)
        return Surface(out, self.frame, sample.unit)

    def _bases(
        self, crew: Crew, outlines: list[Outline], kept: Kept, progress: Progress
    ) -> list[Base | None]:
        """The base of each outline; None for those that lie on the disk, or are kept."""
        settings, scratch, edges = self.asked.settings, kept.scratch, f"{kept.name}-edges"
        if settings.against == "level":
            return [settings.level] * len(outlines)
        if settings.against == "lowest":
            each = crew.each(LowestWork(self.asked), list(scratch.tiling), progress, "Looking for the lowest")
            lowest = np.min([found for _, found in each], axis=0)
            if not np.isfinite(lowest).all():
                raise MossError("No height lies in the outline.", "Draw it where there are heights.")
            return list(lowest.tolist())
        if settings.against == "plane":
            surface = self._along(outlines, progress)
            return [plane_base(surface, outline) for outline in outlines]
        if settings.against == "edge" and not scratch.finished(edges):
            self._keep_edges(outlines, kept, progress)
            scratch.finish(edges)
        return [None] * len(outlines)

    def _along(self, outlines: list[Outline], progress: Progress) -> Surface:
        """Heights where rims run."""
        return self._around(np.concatenate([rim_places(self.frame, o) for o in outlines]), progress)

    def _around(self, places: np.ndarray, progress: Progress) -> Surface:
        """Heights around some places."""
        return surface_around(self.asked.grid, self.asked.window, places, progress)

    def _keep_edges(self, outlines: list[Outline], kept: Kept, progress: Progress) -> None:
        """Lay the base of each outline between the heights of its edge, and keep that of each strip."""
        surface = self._along(outlines, progress)
        for k, outline in enumerate(outlines):
            progress.at(k / len(outlines), "Laying edges")
            part = edge_part(surface, outline)
            for tile in kept.scratch.tiling:
                rows, _ = meeting(outline, tile.rows)
                if rows.start < rows.stop:
                    kept.scratch.save(_edge_name(kept.name, k), tile, part[within(rows, outline.part[0])])
                    let_go(part)


def volumes(fed: Fed, settings: Any) -> VolumeJob | None:
    """Cut and fill of outlines on heights in single precision; against a surface that lies cell on cell with
    them, on the disk, too, and in their unit. All else goes another way.
    """
    grid, base, area = (fed.get(name) for name in ("surface", "base", "area"))
    areas = None if area is None or isinstance(area, OnDisk | Passing) else of_kind(area, Shapes)
    asked = settings.outline is not None if area is None else areas is not None
    level = settings.against != "level" or settings.level is not None
    if not isinstance(grid, OnDisk) or grid.dtype != np.float32 or not asked or not level:
        return None
    if settings.against != "surface":
        base = None
    elif not isinstance(base, OnDisk) or not lies_on(base, grid):
        return None
    given: dict[str, Value] = {} if areas is None else {"area": areas}
    window = window_of(cut_fill, settings, given, grid.frame)
    laid = outlines_of(settings, given, grid.frame.crs)
    own = base if isinstance(base, OnDisk) else None
    return VolumeJob(Asked(grid, window, settings, laid, own), fed)
