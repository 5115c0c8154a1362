"""Tiles of a GeoTIFF that hold values as memory does, read without the raster library between: it copies each
value twice.
"""

from __future__ import annotations

import errno
import os
import sys
from pathlib import Path
from typing import Any

import numpy as np
from rasterio.enums import MaskFlags
from rasterio.errors import RasterioError
from rasterio.io import DatasetReader
from rasterio.windows import Window

from moss_step.formats.kernels.tiles import pick_tile
from moss_step.formats.raster import is_single

_LITTLE, _LARGEST = b"II", 1 << 24
"""How the file begins, and cells that a tile has at the most."""
_NONE = np.float32(np.nan)


class PlainTiles:
    """The tiles of one file that is held open: one band of single precision, little end first, neither
    compressed nor scaled, whose no-data is one value or none. Windows are read by one thread at a time.
    """

    def __init__(self, path: Path, file: DatasetReader) -> None:
        self._file = file
        self._high, self._wide = file.block_shapes[0]
        gone = file.nodatavals[0]
        self._gone = _NONE if gone is None else np.float32(gone)
        self._tile = np.empty((self._high, self._wide), np.float32)
        self._bytes = os.open(path, os.O_RDONLY | os.O_CLOEXEC)

    def close(self) -> None:
        """Let go of the file."""
        os.close(self._bytes)

    def read(self, window: Window, out: np.ndarray) -> int:
        """Values of a window (rows, cols; float32), no-data and infinite ones as NaN; gives the number of the
        infinite ones.

        Raises OSError for a file that ends before them.
        """
        top, left = int(window.row_off), int(window.col_off)
        found = 0
        for down in range(top // self._high, -(-(top + out.shape[0]) // self._high)):
            for across in range(left // self._wide, -(-(left + out.shape[1]) // self._wide)):
                r, c = down * self._high - top, across * self._wide - left
                rows = slice(max(-r, 0), min(self._high, out.shape[0] - r))
                found += pick_tile(self._load(down, across, rows), max(r, 0), c, self._gone, out)
        return found

    def raw(self, window: Window) -> np.ndarray:
        """The values of a window within one tile, from its corner on, as the file holds them.

        Raises OSError for a file that ends before them.
        """
        down, across = int(window.row_off) // self._high, int(window.col_off) // self._wide
        tile = self._load(down, across, slice(0, int(window.height)))
        return np.ascontiguousarray(tile[:, : int(window.width)])

    def _load(self, down: int, across: int, rows: slice) -> np.ndarray:
        """Some rows of a tile."""
        offset = place_of(self._file, down, across, self._tile.nbytes)
        if offset is None:
            raise OSError(errno.EIO, "a tile is not there")
        part = self._tile[: rows.stop - rows.start]
        offset += rows.start * self._wide * part.itemsize
        if os.preadv(self._bytes, [part.data], offset) != part.nbytes:
            raise OSError(errno.EIO, "the file ends before its tiles")
        return part


def place_of(file: DatasetReader, down: int, across: int, size: int) -> int | None:
    """The byte that a tile begins at; None where the file has none, or one of another size."""
    at: Any = file.get_tag_item(f"BLOCK_OFFSET_{across}_{down}", "TIFF", bidx=1)
    has: Any = file.get_tag_item(f"BLOCK_SIZE_{across}_{down}", "TIFF", bidx=1)
    return int(at) if at is not None and has is not None and int(has) == size else None


def plain_tiles(path: Path, file: DatasetReader) -> PlainTiles | None:
    """The tiles of a file that is open; None where they are not plain, or the first and the last one are not
    what the raster library reads there.
    """
    flags = file.mask_flag_enums[0]
    gone = file.nodatavals[0]
    high, wide = file.block_shapes[0]
    plain = (
        (file.driver, file.count, file.dtypes[0], file.compression) == ("GTiff", 1, "float32", None)
        and (file.scales[0], file.offsets[0]) == (1.0, 0.0)
        and (flags == [MaskFlags.all_valid] or (flags == [MaskFlags.nodata] and is_single(gone)))
        and wide != file.width
        and high * wide <= _LARGEST
        and sys.byteorder == "little"
        and _begins(path, _LITTLE)
    )
    if not plain:
        return None
    down, across = (file.height - 1) // high, (file.width - 1) // wide
    size = high * wide * 4
    if place_of(file, 0, 0, size) is None or place_of(file, down, across, size) is None:
        return None
    made = PlainTiles(path, file)
    if _as_the_library(made, file, (0, 0)) and _as_the_library(made, file, (down, across)):
        return made
    made.close()
    return None


def _begins(path: Path, with_bytes: bytes) -> bool:
    """Whether a file of its own, and not a part of an archive, begins with some bytes."""
    try:
        with path.open("rb") as file:
            return file.read(len(with_bytes)) == with_bytes
    except OSError:
        return False


def _as_the_library(tiles: PlainTiles, file: DatasetReader, tile: tuple[int, int]) -> bool:
    """Whether a tile holds, bit for bit, what the raster library reads there."""
    high, wide = file.block_shapes[0]
    top, left = tile[0] * high, tile[1] * wide
    window = Window(left, top, min(wide, file.width - left), min(high, file.height - top))
    try:
        theirs = file.read(1, window=window)
        return bool(np.array_equal(theirs.view(np.uint32), tiles.raw(window).view(np.uint32)))
    except (OSError, RasterioError):
        return False  # the library itself says what is wrong, when it is asked
