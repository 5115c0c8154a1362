"""Where the copies of a Cloud Optimized GeoTIFF lie in its file: what a coarse look needs of it.

OGC 21-026, Cloud Optimized GeoTIFF 1.0: all directories stand at the head, coarser copies as reduced images.
"""

from __future__ import annotations

import io
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import tifffile
from rasterio.windows import Window

from moss_step.formats.raster import describe, held_open, read_into
from moss_step.formats.whole import in_words
from moss_step.model.arrays import as_short
from moss_step.model.errors import MossError
from moss_step.model.frame import Frame
from moss_step.model.kernels.blanks import drop_infinite
from moss_step.model.memory import check_grid
from moss_step.model.surface import Surface

MOST_CELLS = 64_000_000
"""Cells of a copy at the most."""


@dataclass(frozen=True)
class Copies:
    """The size of a file, and of each of its copies, the finest first: rows and columns, and the bytes that
    it spans, from one to before another.
    """

    size: int
    shapes: tuple[tuple[int, int], ...]
    spans: tuple[tuple[int, int], ...]

    @classmethod
    def of(cls, head: bytes, size: int, name: str) -> Copies:
        """Read the directories at the head of a file of so many bytes.

        Raises MossError when they do not stand there, or name bytes that the file does not have.
        """
        found = []
        try:
            with tifffile.TiffFile(io.BytesIO(head)) as opened:
                for page in opened.pages:
                    offsets, counts = np.asarray(page.dataoffsets), np.asarray(page.databytecounts)
                    held = counts > 0
                    span = int(offsets[held].min()), int((offsets + counts)[held].max())
                    rows, cols = page.shape[:2]
                    found.append(((int(rows), int(cols)), span))
        except Exception as error:  # whatever the library throws at what is no TIFF
            raise MossError(
                f"The tile {name} is no GeoTIFF that can be read in parts.", "It cannot be used here."
            ) from error
        found.sort(key=lambda f: -f[0][0])
        if not found or any(not 0 < a < b <= size for _, (a, b) in found):
            raise MossError(f"The tile {name} names bytes that it does not have.", "Fetch it again later.")
        return cls(size, tuple(s for s, _ in found), tuple(s for _, s in found))

    def level_for(self, own: float, wanted: float) -> int:
        """The coarsest copy whose cells are no larger than wanted; ``own`` is the size of the finest ones."""
        first = self.shapes[0][0]
        fine = [k for k, (rows, _) in enumerate(self.shapes) if own * first / rows <= wanted * 1.001]
        return max(fine, default=0)

    def check(self, level: int, name: str) -> None:
        """Raise MossError for a copy that is larger than is taken, in cells or in bytes."""
        (rows, cols), (first, last) = self.shapes[level], self.spans[level]
        if rows * cols > MOST_CELLS or last - first > MOST_CELLS * 8:
            raise MossError(
                f"The tile {name} has {rows:,} x {cols:,} cells in {(last - first) / 1e6:,.0f} MB, which is "
                "more than is taken.",
                "Look from farther away, where a coarser copy serves.",
            )

    def as_data(self) -> dict[str, Any]:
        """Plain data of it."""
        return {"size": self.size, "shapes": self.shapes, "spans": self.spans}

    @classmethod
    def from_data(cls, data: Mapping[str, Any]) -> Copies:
        """Make it of plain data."""
        pairs = {n: tuple((int(a), int(b)) for a, b in data[n]) for n in ("shapes", "spans")}
        return cls(int(data["size"]), pairs["shapes"], pairs["spans"])


def read_copy(path: Path, level: int) -> Surface:
    """A copy of a tile, as ``read_surface`` would read it were it a file of its own.

    Raises MossError for a grid that is turned, and when bytes are damaged.
    """
    facts = describe(path)
    if facts.rotated or facts.transform.e > 0 or facts.transform.a < 0:
        raise MossError(f"{path} is a grid that is turned.", "It cannot be used here.")
    with held_open(path, copy=level) as file, in_words(path, "read as a tile", "Fetch it again."):
        check_grid(file.height * file.width, str(path), "Look at a smaller part.")
        values = np.empty(file.shape, np.float32 if facts.exact else np.float64)
        read_into(values, file, 1, facts, Window(0, 0, file.width, file.height), None)
        t = file.transform
    drop_infinite(values)
    rows, cols = values.shape
    frame = Frame(rows, cols, t.c, t.f, t.a, -t.e, facts.crs)
    return Surface(values if facts.exact else as_short(values), frame, facts.unit)
