"""Pictures as TIFF, with their resolution, and with their place on the ground where they have one."""

from __future__ import annotations

import warnings
from pathlib import Path

import numpy as np
import rasterio

from moss_step.formats.source import side_files
from moss_step.formats.whole import in_words, whole_file

WORLD = {".png": ".pgw", ".tif": ".tfw", ".tiff": ".tfw"}
"""Endings of pictures, and of the world files beside them."""
Place = tuple[float, float, float, float, float, float]
"""The six numbers of a world file: what a column and a row add to x and y, and the middle of the first pixel.
"""
_FREE = "The disk may be full. Free some space, or choose another."


def places_of(path: Path) -> list[Path]:
    """Files beside a picture that say where it lies, or more of it."""
    world = path.with_suffix(WORLD.get(path.suffix.lower(), ".wld"))
    return [*side_files(path), *([world] if world.is_file() else [])]


def write_tiff(
    path: Path,
    pixels: np.ndarray,
    dpi: int,
    place: Place | None = None,
    crs: str | None = None,
) -> None:
    """Write pixels of shape (height, width, 3), uint8, whole or not at all.

    Raises MossError when it cannot be written.
    """
    made = {} if place is None or crs is None else {"crs": crs, "transform": _affine(place)}
    with whole_file(path, places_of) as part, in_words(path, "written", _FREE), warnings.catch_warnings():
        warnings.simplefilter("ignore")
        with rasterio.open(
            part, "w", driver="GTiff", width=pixels.shape[1], height=pixels.shape[0], count=3, dtype="uint8",
            compress="deflate", photometric="RGB", **made,
        ) as file:  # fmt: skip
            file.update_tags(TIFFTAG_XRESOLUTION=dpi, TIFFTAG_YRESOLUTION=dpi, TIFFTAG_RESOLUTIONUNIT=2)
            for band in range(3):
                file.write(np.ascontiguousarray(pixels[:, :, band]), band + 1)


def _affine(place: Place) -> object:
    a, d, b, e, x, y = place
    return rasterio.Affine(a, b, x - (a + b) / 2, d, e, y - (d + e) / 2)
