"""Grids that stay on the disk: any window of one, read as the whole grid would be."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from pathlib import Path

import numpy as np
from rasterio.windows import Window

from moss_step.formats.plain_tiles import plain_tiles
from moss_step.formats.raster import (
    Band,
    band_of,
    describe,
    held_open,
    quantity_in,
    read_into,
)
from moss_step.formats.raster_facts import RasterFacts
from moss_step.formats.stored_tiles import StoredTiles
from moss_step.model.errors import MossError
from moss_step.model.frame import Box, Frame
from moss_step.model.kernels.blanks import drop_infinite
from moss_step.model.units import UNITS, Unit


@dataclass(frozen=True)
class GridSource:
    """Which grid of which file, and what was stated of it; plain enough to be sent to another process."""

    path: Path
    band: Band = None
    no_data: float | None = None
    box: Box | None = None
    crs: str | None = None
    unit: str = ""
    double: bool | None = None
    """Whether values are held in double precision; None while nobody has looked whether they need it."""
    at: StoredTiles | None = None
    """Where its values lie for those who do not see the file."""

    @cached_property
    def facts(self) -> RasterFacts:
        """What the file states about itself.

        Raises MossError for a grid that is turned: windows of one are not north up.
        """
        facts = describe(self.path, self.band)
        if facts.rotated:
            raise MossError(
                f"{self.path} is rotated, and is larger than can be turned in memory.", "Turn it first."
            )
        return facts

    @cached_property
    def _whole(self) -> Frame:
        t, facts = self.facts.transform, self.facts
        x0 = t.c + facts.cols * t.a if t.a < 0 else t.c
        y0 = t.f + facts.rows * t.e if t.e > 0 else t.f
        return Frame(facts.rows, facts.cols, x0, y0, abs(t.a), abs(t.e), self.crs or facts.crs)

    @cached_property
    def _within(self) -> tuple[slice, slice]:
        whole = self._whole
        return (slice(0, whole.rows), slice(0, whole.cols)) if self.box is None else whole.window(self.box)

    @cached_property
    def frame(self) -> Frame:
        """Where the grid lies, north up; of the box alone where one was given."""
        return self._whole if self.box is None else self._whole.part(*self._within)

    @property
    def measured_in(self) -> Unit:
        """The unit of the values: what was stated, else what the file says."""
        return UNITS[self.unit] if self.unit else self.facts.unit

    @property
    def quantity(self) -> str:
        """What is measured."""
        unit = self.measured_in
        stated = self.facts.quantity or quantity_in(self.facts.unit)
        return stated if unit == self.facts.unit else quantity_in(unit)

    @property
    def dtype(self) -> np.dtype:
        """Single precision where that holds every value of the file's type, or was found to be enough."""
        double = not self.facts.exact if self.double is None else self.double
        return np.dtype(np.float64 if double else np.float32)

    def turned(self, rows: slice, cols: slice) -> Window:
        """A window in the file's own rows and columns."""
        facts, (down, across) = self.facts, self._within
        first, last = rows.start + down.start, rows.stop + down.start
        left, right = cols.start + across.start, cols.stop + across.start
        if facts.transform.e > 0:
            first, last = facts.rows - last, facts.rows - first
        if facts.transform.a < 0:
            left, right = facts.cols - right, facts.cols - left
        return Window(left, first, right - left, last - first)


class DamagedError(MossError):
    """A part of a grid cannot be read, and never will be: the rest can be worked out without it."""


class GridReader:
    """A grid that is held open: windows of it are read one after another, by one thread at a time."""

    def __init__(self, source: GridSource) -> None:
        self.source = source
        self.infinite = 0
        """Infinite values that were met so far, and taken as no-data."""
        self._cells: _OfFile | _OfStore
        self._cells = _OfFile(source) if source.at is None else _OfStore(source.at)

    def close(self) -> None:
        """Let go of the file."""
        self._cells.close()

    @property
    def has_copies(self) -> bool:
        """Whether the file holds coarser copies."""
        return self._cells.has_copies

    @property
    def is_plain(self) -> bool:
        """Whether the tiles of the file are read straight into their places."""
        return self._cells.is_plain

    def read(self, rows: slice, cols: slice, shape: tuple[int, int] | None = None) -> np.ndarray:
        """Values of a window, north up: float32 or float64 as ``GridSource.dtype`` says, no-data as NaN. With
        a ``shape`` of fewer cells every so many are read.

        Raises DamagedError that names the window when the file is damaged there; MossError where nothing
        answers that has it.
        """
        source = self.source
        shape = shape or (rows.stop - rows.start, cols.stop - cols.start)
        try:
            out, infinite = self._cells.read(rows, cols, shape)
        except MossError:  # of a store: the file may be sound
            raise
        except Exception as error:  # whatever the library throws at damaged bytes
            raise DamagedError(
                f"{source.path} cannot be read in rows {rows.start} to {rows.stop - 1}, columns "
                f"{cols.start} to {cols.stop - 1}.",
                "The file is damaged or incomplete there: fetch it again.",
            ) from error
        self.infinite += infinite
        return np.ascontiguousarray(out, source.dtype)

    def __enter__(self) -> GridReader:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()


class _OfFile:
    """Cells of a file that is held open."""

    def __init__(self, source: GridSource) -> None:
        self._source = source
        self._file = held_open(source.path, source.band)
        self._band = band_of(self._file, source.path, source.band)
        self._plain = plain_tiles(source.path, self._file) if source.no_data is None else None

    def close(self) -> None:
        if self._plain is not None:
            self._plain.close()
        self._file.close()

    @property
    def has_copies(self) -> bool:
        return bool(self._file.overviews(self._band))

    @property
    def is_plain(self) -> bool:
        return self._plain is not None

    def read(self, rows: slice, cols: slice, shape: tuple[int, int]) -> tuple[np.ndarray, int]:
        """Values of a window, north up, and how many infinite ones were met."""
        source = self._source
        out = np.empty(shape, np.float32 if source.facts.exact else np.float64)
        if self._plain is not None and shape == (rows.stop - rows.start, cols.stop - cols.start):
            infinite = self._plain.read(source.turned(rows, cols), out)
        else:
            read_into(out, self._file, self._band, source.facts, source.turned(rows, cols), source.no_data)
            infinite = int(drop_infinite(out))
        down, across = source.facts.transform.e > 0, source.facts.transform.a < 0
        return out[:: -1 if down else 1, :: -1 if across else 1], infinite


class _OfStore:
    """Cells that lie behind an address, for those who do not see the file."""

    has_copies = is_plain = False

    def __init__(self, at: StoredTiles) -> None:
        self._at = at

    def close(self) -> None:
        """Nothing is held."""

    def read(self, rows: slice, cols: slice, shape: tuple[int, int]) -> tuple[np.ndarray, int]:
        cells = self._at.read(rows, cols)
        each = [(np.arange(n) * m // n) for n, m in zip(shape, cells.shape, strict=True)]
        return cells if shape == cells.shape else cells[np.ix_(*each)], int(self._at.infinite)
