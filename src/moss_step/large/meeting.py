"""Grids where those meet who work on them, and see no folder together: brought there, and written there."""

from __future__ import annotations

from dataclasses import replace

from moss_step.formats.address import Address
from moss_step.formats.stored_tiles import SIDE, StoredTiles
from moss_step.formats.tiled import TiledFile
from moss_step.formats.windows import DamagedError, GridReader, GridSource
from moss_step.large.held import OnDisk, sent_along
from moss_step.large.tiling import Tile, Tiling, bands
from moss_step.model.progress import Progress


def brought(source: GridSource, place: Address, cells: int, progress: Progress) -> GridSource:
    """A grid with its values at an address, brought there unless an earlier run did. What cannot be read of
    it is not brought: who asks for that is told.

    Raises MossError when the address cannot be written to.
    """
    rows, cols = source.frame.shape
    stored = StoredTiles(place, rows, cols)
    stored.begin()
    if not stored.finished:
        tiles, missing = list(bands((rows, cols), cells)), list[tuple[slice, slice]]()
        with GridReader(source) as reader:
            for n, tile in enumerate(tiles):
                progress.at(n / len(tiles), "Bringing the ground to the workers")
                if _bring(reader, stored, tile):
                    continue
                parts = Tiling((rows, cols), SIDE, SIDE).meeting(tile.rows, tile.cols)
                missing += [(p.rows, p.cols) for p in parts if not _bring(reader, stored, p)]
            stored.finish(reader.infinite > 0, missing)
    return sent_along(replace(source, at=stored.as_said()))


def _bring(reader: GridReader, stored: StoredTiles, tile: Tile) -> bool:
    """Bring a tile; tells whether it could be read."""
    try:
        values = reader.read(tile.rows, tile.cols)
    except DamagedError:
        return False
    stored.write(tile.rows, tile.cols, values)
    return True


def written_at(target: TiledFile, place: Address) -> TiledFile:
    """A file whose tiles are written to an address, until they are gathered.

    Raises MossError when the address cannot be written to.
    """
    stored = StoredTiles(place, target.rows, target.cols, target.no_data)
    stored.begin()
    return replace(target, at=stored)


def seen_here(held: OnDisk) -> OnDisk:
    """A grid by its own file, for this process."""
    return held if held.source.at is None else replace(held, source=replace(held.source, at=None))
