"""Grids as layers of a GeoPackage: tiled gridded coverages (OGC 17-066), beside its shapes and tables."""

from __future__ import annotations

import sqlite3
from contextlib import closing
from pathlib import Path

import numpy as np
import rasterio
from rasterio.transform import from_origin

from moss_step.formats.vector import write_table_layer
from moss_step.formats.whole import in_words, printable
from moss_step.model.class_map import NO_CLASS, ClassMap
from moss_step.model.frame import Frame
from moss_step.model.surface import Surface

NO_DATA = -9999.0
_FREE = "The disk may be full. Free some space, or choose another."


def add_surface(package: Path, value: Surface, layer: str, about: str = "") -> bool:
    """Add a surface as a layer to a GeoPackage that is being written, or begin one; tells whether a layer
    holds it as it is: it has single precision.

    Raises MossError when it cannot be written.
    """
    if value.values.dtype != np.float32:
        return False
    low = (value.range or (0.0, 0.0))[0]
    no_data = NO_DATA if low > NO_DATA else float(np.finfo(np.float32).min)
    cells = np.where(np.isnan(value.values), np.float32(no_data), value.values)
    _add(package, cells, value.frame, layer, about, no_data, value.unit.key)
    return True


def add_classes(package: Path, value: ClassMap, layer: str, about: str = "") -> bool:
    """Add a class map as a layer, and what its codes are called as a table of its own.

    Raises MossError when it cannot be written.
    """
    _add(package, value.codes.astype(np.float32), value.frame, layer, about, float(NO_CLASS), "class")
    held = {
        "code": np.array([c.code for c in value.classes]),
        "name": np.array([c.name for c in value.classes], object),
        "color": np.array([c.color for c in value.classes], object),
    }
    write_table_layer(package, held, f"{layer}_classes", f"What the codes of {layer} mean")
    return True


def _add(
    package: Path, cells: np.ndarray, frame: Frame, layer: str, about: str, no_data: float, unit: str
) -> None:
    there = {"APPEND_SUBDATASET": "YES"} if package.exists() else {}
    with in_words(package, "written", _FREE):
        with rasterio.open(
            package, "w", driver="GPKG", width=frame.cols, height=frame.rows, count=1, dtype=cells.dtype.name,
            crs=frame.crs, transform=from_origin(frame.x0, frame.y0, frame.dx, frame.dy), RASTER_TABLE=layer,
            RASTER_DESCRIPTION=printable(about)[:1000], TILE_FORMAT="TIFF", **there,
        ) as file:  # fmt: skip
            file.write(cells, 1)
        # The library has no word for these two.
        told = "SET data_null = ?, uom = ? WHERE tile_matrix_set_name = ?"
        with closing(sqlite3.connect(package)) as held, held:
            held.execute(f"UPDATE gpkg_2d_gridded_coverage_ancillary {told}", (no_data, unit, layer))
