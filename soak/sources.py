"""Grounds in files of other kinds than this program writes: whole numbers, scaled ones, masks, other ways up."""

from __future__ import annotations

import random
from pathlib import Path

import numpy as np
import rasterio
from rasterio.transform import Affine

from moss_step.formats.raster_write import write_surface
from moss_step.model.surface import Surface

_SCALE, _OFFSET = 0.1, -2000.0
_OTHERS = "whole", "scaled", "double", "packed", "masked", "from south", "from east"
"""Kinds of files; half of all grounds are written as this program does."""


def write_somehow(path: Path, ground: Surface, rng: random.Random) -> str:
    """Write a ground as a GeoTIFF of some kind; gives which."""
    kind = rng.choice(_OTHERS) if rng.random() < 0.5 else ""
    if not kind:
        write_surface(path, ground, "Ground")
        return "as we write it"
    z, frame = ground.values.astype(np.float64), ground.frame
    place, hole, more = (
        Affine(frame.dx, 0.0, frame.x0, 0.0, -frame.dy, frame.y0),
        np.isnan(z),
        dict[str, object](),
    )
    cells: np.ndarray = z.astype(np.float32)
    no_data = float("nan")
    if kind == "whole":
        cells, no_data = np.where(hole, -32768, np.nan_to_num(z).round()).astype(np.int16), -32768.0
    elif kind == "scaled":
        steps = ((np.nan_to_num(z) - _OFFSET) / _SCALE).round().clip(1, 65535)
        cells, no_data = np.where(hole, 0, steps).astype(np.uint16), 0.0
    elif kind == "double":
        cells = z
    elif kind == "packed":
        more = {"tiled": True, "blockxsize": 256, "blockysize": 256, "compress": "deflate", "predictor": 3}
    elif kind == "from south":
        cells = cells[::-1]
        place = Affine(frame.dx, 0.0, frame.x0, 0.0, frame.dy, frame.y0 - frame.rows * frame.dy)
    elif kind == "from east":
        cells = cells[:, ::-1]
        place = Affine(-frame.dx, 0.0, frame.x0 + frame.cols * frame.dx, 0.0, -frame.dy, frame.y0)
    masked = kind == "masked"
    head = {
        "driver": "GTiff",
        "count": 1,
        "height": frame.rows,
        "width": frame.cols,
        "dtype": cells.dtype.name,
    }
    with (
        rasterio.Env(GDAL_TIFF_INTERNAL_MASK=True),
        rasterio.open(
            path, "w", crs=frame.crs, transform=place, nodata=None if masked else no_data, **head, **more
        ) as file,
    ):
        file.write(np.nan_to_num(cells, nan=7.0) if masked else cells, 1)
        if masked:
            file.write_mask(~hole)
        if kind == "scaled":
            file.scales, file.offsets = (_SCALE,), (_OFFSET,)
    return kind
