"""Tiled grids that several processes fill in: each tile has its place in the file before any is written.

TIFF 6.0 and BigTIFF: the raster library lays out head and tags of a file without tiles; then its list of
places is filled in (tags 324 and 325), and the tiles are written where that says.
"""

from __future__ import annotations

import errno
import fcntl
import json
import logging
import mmap
import os
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
import rasterio
import tifffile
from blake3 import blake3
from rasterio.errors import RasterioError
from rasterio.io import DatasetWriter
from rasterio.transform import from_origin

from moss_step.formats.kernels.tiles import lay_tile
from moss_step.formats.stored_tiles import SIDE, StoredTiles
from moss_step.formats.whole import first_line, in_words
from moss_step.model.errors import MossError
from moss_step.model.frame import Frame
from moss_step.model.progress import Progress

# It remarks on numbers in tags that nobody asks it for.
logging.getLogger("tifffile").setLevel(logging.CRITICAL)
_WORDS = {3: "<u2", 4: "<u4", 16: "<u8"}
"""Types of numbers in tags: SHORT, LONG and LONG8."""
_ALIGNED = 4096
"""Bytes that the first tile begins at a multiple of."""
_PAST_COPIES = getattr(os, "O_DIRECT", 0)
_OFFSETS, _SIZES = "TileOffsets", "TileByteCounts"


def lay_out(
    path: Path, frame: Frame, dtype: np.dtype, no_data: float, describe: Callable[[DatasetWriter], None]
) -> TiledFile:
    """Make a tiled, uncompressed GeoTIFF all of whose tiles have their places, and none its values yet.

    Raises MossError when there is no room for it.
    """
    place = from_origin(frame.x0, frame.y0, frame.dx, frame.dy)
    profile = {"driver": "GTiff", "height": frame.rows, "width": frame.cols, "count": 1, "dtype": dtype.name}
    layout = {"tiled": True, "blockxsize": SIDE, "blockysize": SIDE, "BIGTIFF": "YES", "SPARSE_OK": True}
    try:
        with rasterio.open(
            path, "w", crs=frame.crs, transform=place, nodata=no_data, **profile, **layout
        ) as file:
            describe(file)
    except RasterioError as error:
        raise MossError(f"{path} could not be written: {first_line(error)}", "Free some space.") from error
    with tifffile.TiffFile(path) as opened:
        tags = opened.pages.first.tags
        offsets, sizes = tags[_OFFSETS], tags[_SIZES]
    down, across = -(-frame.rows // SIDE), -(-frame.cols // SIDE)
    size = SIDE * SIDE * dtype.itemsize
    first = -(-path.stat().st_size // _ALIGNED) * _ALIGNED
    with in_words(path, "written"), path.open("r+b") as file:
        room = os.statvfs(path)
        if down * across * size > room.f_bavail * room.f_frsize:
            raise MossError(
                f"{path} needs {down * across * size / 1e9:,.1f} GB; the disk has "
                f"{room.f_bavail * room.f_frsize / 1e9:,.1f} GB.",
                "Free some space, or choose another disk.",
            )
        for tag, values in ((offsets, first + np.arange(down * across) * size), (sizes, [size])):
            word = _WORDS[int(tag.dtype)]
            file.seek(tag.valueoffset)
            file.write(np.broadcast_to(np.asarray(values, word), down * across).tobytes())
        file.truncate(first + down * across * size)
    return TiledFile(path, frame.rows, frame.cols, dtype.name, no_data, first)


def note_of(target: TiledFile) -> str:
    """What is noted of a file that was laid out, for ``reopened``."""
    return json.dumps({"first": target.first, "no_data": target.no_data})


def reopened(note: Path, path: Path, frame: Frame, dtype: np.dtype) -> TiledFile | None:
    """The file that was laid out for a grid before, by what was noted of it; None where it is not there as it
    was left.
    """
    try:
        data = json.loads(note.read_text(encoding="utf-8"))
        first, no_data = int(data["first"]), float(data["no_data"])
        target = TiledFile(path, frame.rows, frame.cols, dtype.name, no_data, first)
        own = first > 0 and first % _ALIGNED == 0 and path.stat().st_size == target.size
    except (OSError, ValueError, TypeError, KeyError):
        return None
    return target if own and not path.is_symlink() else None


@dataclass(frozen=True)
class TiledFile:
    """Where the tiles of a file lie; plain enough to be sent to another process."""

    path: Path
    rows: int
    cols: int
    dtype: str
    no_data: float
    first: int
    at: StoredTiles | None = None
    """Where its tiles are written to by those who do not see the file; they are gathered into it later."""

    @property
    def size(self) -> int:
        """Bytes of the file."""
        tiles = -(-self.rows // SIDE) * -(-self.cols // SIDE)
        return self.first + tiles * SIDE * SIDE * np.dtype(self.dtype).itemsize

    def _lines(self, rows: slice, cols: slice) -> Iterator[tuple[int, int]]:
        """Where each row of tiles of a window lies in the file, and its bytes."""
        across, size = -(-self.cols // SIDE), SIDE * SIDE * np.dtype(self.dtype).itemsize
        first, last = cols.start // SIDE, -(-cols.stop // SIDE)
        for r in range(rows.start // SIDE, -(-rows.stop // SIDE)):
            yield self.first + (r * across + first) * size, (last - first) * size

    def write(self, rows: slice, cols: slice, values: np.ndarray) -> str:
        """Write a window that begins at a tile's corner, and ends at one or with the grid; NaN as no-data.
        Gives the hash of what was written.

        Raises MossError when the disk is full.
        """
        if self.at is not None:
            return self.at.write(rows, cols, np.asarray(values, self.dtype))
        digest, dtype = blake3(), np.dtype(self.dtype)
        laid = _aligned(dtype)
        data, no_data = laid.reshape(-1).view(np.uint8).data, dtype.type(self.no_data)
        with in_words(self.path, "written"), _open_to_write(self.path) as file:
            for n, (offset, size) in enumerate(self._lines(rows, cols)):
                line = np.ascontiguousarray(values[n * SIDE : (n + 1) * SIDE], dtype)
                for k in range(size // len(data)):
                    lay_tile(line, k * SIDE, no_data, laid)
                    digest.update(data)
                    _write_at(file, data, offset + k * len(data))
        return digest.hexdigest()

    def digest(self, rows: slice, cols: slice) -> str:
        """The hash of what a window holds now."""
        if self.at is not None:
            return self.at.digest(rows, cols)
        digest = blake3()
        with in_words(self.path, "read"), self.path.open("rb", buffering=0) as file:
            for offset, size in self._lines(rows, cols):
                digest.update(os.pread(file.fileno(), size, offset))
        return digest.hexdigest()

    def gather(self, progress: Progress) -> None:
        """Have the file hold what was written behind an address, some rows at a time.

        Raises MossError when a tile is not there or damaged, or the disk is full.
        """
        at, own = self.at, replace(self, at=None)
        if at is None:
            return
        for top in range(0, self.rows, SIDE):
            progress.at(top / self.rows, "Gathering what workers wrote")
            rows, cols = slice(top, min(top + SIDE, self.rows)), slice(0, self.cols)
            own.write(rows, cols, at.raw(rows, cols))


def _aligned(dtype: np.dtype) -> np.ndarray:
    """A tile that begins with a page of memory."""
    held = np.frombuffer(mmap.mmap(-1, SIDE * SIDE * dtype.itemsize), dtype)
    return held.reshape(SIDE, SIDE)


def _write_at(file: int, data: memoryview, offset: int) -> None:
    """Write all of a tile.

    Raises OSError when the disk is full.
    """
    try:
        written = os.pwrite(file, data, offset)
    except OSError as error:
        if error.errno != errno.EINVAL:
            raise
        # Opened past the copies, and refused all the same: its pages are larger than ours.
        fcntl.fcntl(file, fcntl.F_SETFL, fcntl.fcntl(file, fcntl.F_GETFL) & ~_PAST_COPIES)
        written = os.pwrite(file, data, offset)
    if written != len(data):
        raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))  # it takes a part then


@contextmanager
def _open_to_write(path: Path) -> Iterator[int]:
    """Open a file for whole tiles: past the system's copies of files where that can be, as they would only
    push out others, and are to be written at once anyway.
    """
    try:
        file = os.open(path, os.O_RDWR | os.O_CLOEXEC | _PAST_COPIES)
    except OSError as error:
        if error.errno != errno.EINVAL:
            raise
        file = os.open(path, os.O_RDWR | os.O_CLOEXEC)  # a file system that has no such way
    try:
        yield file
    finally:
        os.close(file)
