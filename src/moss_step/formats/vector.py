"""Shapes in vector files: GeoPackage, GeoJSON, Shapefile and whatever else the I/O library reads."""

from __future__ import annotations

import warnings
from pathlib import Path

import numpy as np
import shapely

from moss_step.formats.whole import check_readable, whole_file
from moss_step.model.errors import MossError
from moss_step.model.shapes import Shapes

# The library is loaded where it is used: with all that it brings along it takes most of a second.
DRIVERS = {".gpkg": "GPKG", ".geojson": "GeoJSON", ".fgb": "FlatGeobuf"}
_DEGREES = (("lon", "lat"), ("longitude", "latitude"))
_PLACES = (("x", "y"), ("easting", "northing"), ("east", "north"), *_DEGREES)
"""Columns of a table that hold the place of each row."""


def split_layer(source: str) -> tuple[Path, str | None]:
    """Split ``file.gpkg#layer`` in its path and layer; the layer is None when none is named."""
    head, mark, tail = source.rpartition("#")
    return (Path(head), tail) if mark and not Path(source).exists() else (Path(source), None)


def layers(path: Path) -> list[str]:
    """Names of the layers in a file."""
    import pyogrio

    check_readable(path)
    try:
        return [str(row[0]) for row in pyogrio.list_layers(path)]
    except (pyogrio.errors.DataSourceError, pyogrio.errors.DataLayerError, UnicodeDecodeError) as error:
        raise _unreadable(path, error) from error


def read_shapes(path: Path, layer: str | None = None) -> Shapes:
    """Read one layer; shapes without geometry are left out.

    Raises MossError when the file cannot be read, the layer is not there, or it holds no shapes.
    """
    import pyogrio

    names = layers(path)
    if layer is not None and layer not in names:
        raise MossError(f"{path} has no layer '{layer}'.", f"It has {', '.join(names)}.")
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            meta, _, wkb, fields = pyogrio.raw.read(path, layer=layer, force_2d=True, **_options(path))
    except (pyogrio.errors.DataSourceError, pyogrio.errors.DataLayerError, UnicodeDecodeError) as error:
        raise _unreadable(path, error) from error
    if wkb is None:
        raise MossError(f"{path} is a table without places.", "Give it columns x and y, or lon and lat, or choose a file with shapes.")
    geometry = shapely.from_wkb(wkb, on_invalid="ignore")
    kept = np.array([g is not None and not g.is_empty for g in geometry], bool)
    if not kept.any():
        raise MossError(f"{path} holds no shapes.", "Choose another file or layer.")
    columns = {str(n): v[kept] for n, v in zip(meta["fields"], fields, strict=True)}
    return Shapes(np.asarray(geometry[kept]), columns, meta["crs"] or _system_of_table(path))


def _options(path: Path) -> dict[str, str]:
    """How a table is read: its rows as points where it says where they lie, its numbers as numbers."""
    if path.suffix.lower() != ".csv":
        return {}
    return {
        "X_POSSIBLE_NAMES": ",".join(x for x, _ in _PLACES), "Y_POSSIBLE_NAMES": ",".join(y for _, y in _PLACES),
        "KEEP_GEOM_COLUMNS": "NO", "AUTODETECT_TYPE": "YES",
    }  # fmt: skip


def _system_of_table(path: Path) -> str | None:
    """Longitude and latitude when a table's columns say so; else it is not known."""
    if path.suffix.lower() != ".csv":
        return None
    with path.open(encoding="utf-8", errors="replace") as file:
        names = {n.strip().strip('"').lower() for n in file.readline().split(",")}
    return "EPSG:4326" if any(x in names and y in names for x, y in _DEGREES) and not any(x in names for x, _ in _PLACES[:3]) else None


def write_shapes(path: Path, shapes: Shapes, layer: str | None = None) -> None:
    """Write shapes whole or not at all; the ending chooses GeoPackage, GeoJSON or FlatGeobuf.

    GeoJSON is written in longitude and latitude as RFC 7946 asks when the reference system is known.
    """
    import pyogrio

    driver = DRIVERS.get(path.suffix.lower())
    if driver is None:
        raise MossError(f"'{path.suffix}' is no format for shapes here.", f"Use one of {', '.join(DRIVERS)}.")
    if driver == "GeoJSON":
        shapes = in_system(shapes, "EPSG:4326") if shapes.crs else shapes
    kinds = {g.geom_type for g in shapes.geometry}
    kind = kinds.pop() if len(kinds) == 1 else "Unknown"
    with whole_file(path) as temporary:
        temporary.unlink()
        try:
            pyogrio.raw.write(
                temporary,
                shapely.to_wkb(shapes.geometry),
                list(shapes.columns.values()),
                list(shapes.columns),
                layer=layer or path.stem,
                driver=driver,
                geometry_type=kind,
                crs=shapes.crs,
                **({"RFC7946": "YES"} if driver == "GeoJSON" and shapes.crs else {}),
            )
        except (pyogrio.errors.DataSourceError, pyogrio.errors.DataLayerError) as error:
            raise MossError(f"{path} could not be written: {error}", "The disk may be full.") from error


def in_system(shapes: Shapes, crs: str | None) -> Shapes:
    """Carry shapes over to another reference system; unknown systems are taken as the same."""
    from pyproj import Transformer

    from moss_step.model.frame import reference_system

    if crs is None or shapes.crs is None or reference_system(crs) == reference_system(shapes.crs):
        return shapes
    turn = Transformer.from_crs(shapes.crs, crs, always_xy=True)
    moved = shapely.transform(shapes.geometry, lambda xy: np.column_stack(turn.transform(xy[:, 0], xy[:, 1])))
    return Shapes(np.asarray(moved), shapes.columns, crs, shapes.symbols)


def _unreadable(path: Path, error: Exception) -> MossError:
    text = str(error).splitlines()[0].rstrip(".")
    return MossError(f"{path} could not be read as shapes: {text}.", "It may be cut short or of another kind.")
