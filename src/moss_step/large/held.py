"""Values that lie on the disk: what is known of one without its cells, and any window of it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict, dataclass, field, replace
from typing import Any

import numpy as np

from moss_step.formats.tiled import TiledFile
from moss_step.formats.windows import DamagedError, GridReader, GridSource
from moss_step.kinds.registry import kind_named
from moss_step.large.tiling import bands
from moss_step.model.frame import Frame
from moss_step.model.mapped import let_go, room_for
from moss_step.model.outcome import Value
from moss_step.model.progress import Progress


@dataclass(frozen=True)
class OnDisk:
    """A grid in a file: the kind of value, what is known of it as ``Kind.parts`` gives it but for its frame,
    and the base that it is levelled by.
    """

    source: GridSource
    kind: str
    about: Mapping[str, Any] = field(default_factory=dict)
    base: float = 0.0

    @property
    def frame(self) -> Frame:
        """Where it lies."""
        return self.source.frame

    @property
    def dtype(self) -> np.dtype:
        """Precision of its values."""
        return self.source.dtype

    @property
    def nbytes(self) -> int:
        """Bytes that it would take in memory."""
        return self.frame.rows * self.frame.cols * self.source.dtype.itemsize

    @property
    def quantity(self) -> str:
        """What is measured."""
        return str(self.about.get("quantity", ""))

    def above_base(self, values: np.ndarray) -> np.ndarray:
        """Values of it in single precision, above the base."""
        if values.dtype == np.float32:
            return values
        above: np.ndarray = (values - self.base).astype(np.float32)
        return above

    def part(self, reader: GridReader, rows: slice, cols: slice) -> tuple[Value, str]:
        """The value in a window; and what is wrong with the file there, in which case nothing stands in it.

        Never raises for damaged bytes: the rest of the ground can be worked out without them. Raises
        MossError where nothing answers that has them.
        """
        wrong = ""
        try:
            array = reader.read(rows, cols)
        except DamagedError as error:
            wrong = error.what
            array = np.full((rows.stop - rows.start, cols.stop - cols.start), np.nan, self.source.dtype)
        return value_of(self.kind, self.about, array, self.frame.part(rows, cols)), wrong


def value_of(kind: str, about: Mapping[str, Any], array: np.ndarray, frame: Frame) -> Value:
    """A part of a value of a kind, from its cells and where it lies."""
    declared = kind_named(kind)
    if not np.isnan(declared.blank):
        array = np.where(np.isnan(array), declared.blank, array).astype(np.uint8)
    # The frame itself goes in last: as plain data it would lose what it knows of the whole ground.
    value: Any = declared.restored({**about, "frame": asdict(frame)}, [array])
    result: Value = replace(value, frame=frame)
    return result


def source_of(target: TiledFile) -> GridSource:
    """A file that was filled in tile by tile, as one to read."""
    source = GridSource(target.path, double=target.dtype == "float64", at=target.at)
    return source if target.at is None else sent_along(source)


def sent_along(source: GridSource) -> GridSource:
    """A source that knows what its file states: it is sent to some who do not see that."""
    _ = source.facts, source.frame
    return source


def taken_over(held: OnDisk, window: tuple[slice, slice], mapped: bool, progress: Progress) -> Value:
    """The value in a window, read some rows at a time, in memory or mapped.

    Raises MossError for damaged bytes, or when the disk has no room.
    """
    rows, cols = window
    shape = rows.stop - rows.start, cols.stop - cols.start
    cells = room_for(shape[0] * shape[1], held.source.dtype, mapped).reshape(shape)
    tiles = list(bands(shape))
    with GridReader(held.source) as reader:
        for n, tile in enumerate(tiles):
            progress.at(n / len(tiles), "Reading the grid")
            first, last = rows.start + tile.rows.start, rows.start + tile.rows.stop
            cells[tile.rows] = reader.read(slice(first, last), cols)
            let_go(cells)
    return value_of(held.kind, held.about, cells, held.frame.part(*window))
