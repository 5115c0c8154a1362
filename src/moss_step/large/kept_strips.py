"""Strips of a ground whose rows are added up, and that are written: what was found in each is kept, so that a
run that was ended goes on with those that are missing.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import astuple, dataclass
from typing import NamedTuple

import numpy as np

from moss_step.formats.address import Place
from moss_step.formats.tiled import TiledFile
from moss_step.formats.windows import GridReader
from moss_step.large.held import OnDisk
from moss_step.large.meeting import seen_here
from moss_step.large.naming import name_by
from moss_step.large.scratch import Scratch, scratch_in
from moss_step.large.telling import like
from moss_step.large.tiling import Tile, strips, widened
from moss_step.model.arrays import Relief
from moss_step.model.frame import Frame, same_frame
from moss_step.model.mapped import room_for
from moss_step.model.outcome import Value
from moss_step.model.progress import Progress
from moss_step.model.summary import Summary
from moss_step.model.surface import Surface
from moss_step.model.typed import as_kind
from moss_step.science.earthwork.outline import Outline

_LOWER = 4
"""Strips are lower by so many times than in other works."""
_SIDE = 256
"""Rows and columns of a block of cells that is read around a place."""


class Found(NamedTuple):
    """What a strip holds: lines of sums, the relief of what was made in double precision, the summary of what
    was written, and what is wrong with the files there.
    """

    lines: np.ndarray
    relief: Relief
    summary: Summary
    wrong: tuple[str, ...] = ()


@dataclass(frozen=True)
class Kept:
    """What was found in strips, under a name, with the hash of what was written."""

    scratch: Scratch
    name: str
    target: TiledFile | None

    def save(self, tile: Tile, found: Found, digest: str) -> None:
        """Keep what was found in a strip."""
        plain = np.array([*astuple(found.relief), *astuple(found.summary)], float)
        self.scratch.save(self.name, tile, found.lines, plain, np.frombuffer(digest.encode(), np.uint8))

    def written(self, tile: Tile, found: Found, values: np.ndarray | None) -> Found:
        """Write a strip, and keep what was found in it unless something of it could not be read; nothing
        where it was kept before.
        """
        if self.target is not None and values is not None:
            digest = self.target.write(tile.rows, tile.cols, values)
            if not found.wrong:
                self.save(tile, found, digest)
        return found

    def load(self, tile: Tile) -> Found | None:
        """What an earlier run found; None where it did not, or the strip is not as it was written."""
        if self.target is None or not self.scratch.has(self.name, tile):
            return None
        lines, plain, digest = self.scratch.load_some(self.name, tile, 3)
        if self.target.digest(tile.rows, tile.cols) != digest.tobytes().decode():
            return None
        low, high, held, count, *rest = plain.tolist()
        return Found(lines, Relief(low, high, bool(held)), Summary(int(count), *rest))


def strips_in(
    folder: Place,
    frame: Frame,
    cells: int,
    target: TiledFile | None,
    how: tuple[str, object],
    fed: Mapping[str, OnDisk | Value | None],
) -> Kept:
    """Strips for a work that takes more memory a cell than others, where tiles have about so many cells; they
    are named by what it is, its settings, and what it is fed.
    """
    what, settings = how
    given = {name: value for name, value in fed.items() if value is not None}
    tiling = strips(frame.shape, max(cells // _LOWER, 1))
    return Kept(scratch_in(folder, tiling), f"{what}-{name_by(settings, given)}", target)


def meeting(outline: Outline, strip: slice) -> tuple[slice, slice]:
    """Rows of a strip that an outline may reach, and its columns; no rows where it does not."""
    rows, cols = outline.part
    start = min(max(rows.start, strip.start), strip.stop)
    return slice(start, max(min(rows.stop, strip.stop), start)), cols


def lies_on(other: OnDisk, grid: OnDisk) -> bool:
    """Whether both lie cell on cell, in single precision and one unit."""
    own, theirs = as_kind(like(grid), Surface), as_kind(like(other), Surface)
    return (
        grid.dtype == other.dtype == np.float32
        and same_frame(other.frame, grid.frame)
        and own.unit == theirs.unit
    )


def surface_around(
    grid: OnDisk, window: tuple[slice, slice], places: np.ndarray, progress: Progress
) -> Surface:
    """The values of a window around some places (n, 2); nothing stands elsewhere.

    Raises MossError for damaged bytes, or when the disk has no room.
    """
    frame = grid.frame.part(*window)
    down, across = (-(-n // _SIDE) for n in frame.shape)
    wanted = np.zeros((down, across), bool)
    col, row = (frame.in_cells(places) // _SIDE).astype(int).T
    wanted[row.clip(0, down - 1), col.clip(0, across - 1)] = True
    cells = room_for(frame.rows * frame.cols, grid.dtype, True).reshape(frame.shape)
    blocks, (down_by, right_by) = np.argwhere(wanted), (part.start for part in window)
    with GridReader(seen_here(grid).source) as reader:
        for n, block in enumerate(blocks.tolist()):
            progress.at(n / len(blocks), "Reading along the outlines")
            rows, cols = (
                widened(slice(k * _SIDE, (k + 1) * _SIDE), 2, size)
                for k, size in zip(block, frame.shape, strict=True)
            )
            there = slice(rows.start + down_by, rows.stop + down_by)
            cells[rows, cols] = reader.read(there, slice(cols.start + right_by, cols.stop + right_by))
    return Surface(cells, frame, as_kind(like(grid), Surface).unit)
