"""Shapes in vector files: GeoPackage, GeoJSON, Shapefile and whatever else the I/O library reads."""

from __future__ import annotations

import sqlite3
import sys
import warnings
from collections.abc import Mapping
from contextlib import closing
from dataclasses import replace
from functools import cache
from importlib import import_module
from pathlib import Path
from typing import Any

import numpy as np
import shapely

from moss_step.formats.source import side_files
from moss_step.formats.whole import check_readable, in_words, printable, whole_file
from moss_step.model.errors import MossError
from moss_step.model.frame import Box, carried, reference_system
from moss_step.model.shapes import Shapes, free_name

# The library is loaded where it is used: with all that it brings along it takes most of a second.
DRIVERS = {".gpkg": "GPKG", ".geojson": "GeoJSON", ".fgb": "FlatGeobuf"}
ENDINGS = (*DRIVERS, ".csv", ".shp", ".json", ".kml", ".gml")
"""Endings of files that are read as shapes."""
_DEGREES = (("lon", "lat"), ("longitude", "latitude"))
_PLACES = (("x", "y"), ("easting", "northing"), ("east", "north"), *_DEGREES)
"""Columns of a table that hold the place of each row, those that count first before others."""
_BETWEEN, _LONG_HEAD = ",;\t|", 1 << 20
"""What may stand between the columns of a table, and characters of its head that are looked at."""


@cache
def vector_library() -> Any:
    """The vector library, without those of tables that it would load for itself: it is handed plain arrays,
    and they take longer to load than all the rest.
    """
    # A module that is None is one that is not installed (The Python Language Reference, 5.3.1).
    aside: dict[str, Any] = {name: None for name in ("pyarrow", "pandas") if name not in sys.modules}
    sys.modules.update(aside)
    try:
        return import_module("pyogrio")
    finally:
        for name in aside:
            del sys.modules[name]


def split_layer(source: str) -> tuple[Path, str | None]:
    """Split ``file.gpkg#layer`` in its path and layer; the layer is None when none is named."""
    head, mark, tail = source.rpartition("#")
    return (Path(head), tail) if mark and not Path(source).exists() else (Path(source), None)


def layers(path: Path) -> list[str]:
    """Names of the layers in a file."""
    check_readable(path)
    _check_virtual(path)
    pyogrio = vector_library()

    with in_words(path, "read as shapes"), warnings.catch_warnings():
        warnings.simplefilter("ignore")
        return [str(row[0]) for row in pyogrio.list_layers(path)]


def layer_sources(path: Path) -> list[str]:
    """The layers of a file as sources: ``file#layer`` where there are several."""
    names = layers(path)
    return [f"{path}#{name}" for name in names] if len(names) > 1 else [str(path)]


def read_shapes(path: Path, layer: str | None = None) -> Shapes:
    """Read one layer; shapes without geometry, or with coordinates that are no numbers, are left out.

    Raises MossError when the file cannot be read, the layer is not there, or it holds no shapes.
    """
    pyogrio = vector_library()

    names = layers(path)
    if layer is not None and layer not in names:
        raise MossError(f"{path} has no layer '{layer}'.", f"It has {', '.join(names)}.")
    with in_words(path, "read as shapes"), warnings.catch_warnings():
        warnings.simplefilter("ignore")
        meta, _, wkb, fields = pyogrio.raw.read(path, layer=layer, force_2d=True, **_options(path))
        if wkb is None:
            raise MossError(
                f"{path} is a table without places.",
                "Give it columns x and y, or lon and lat, or choose a file with shapes.",
            )
        geometry = shapely.from_wkb(wkb, on_invalid="ignore")
        kept = np.array([g is not None and not g.is_empty for g in geometry], bool)
        kept[kept] = np.isfinite(shapely.bounds(geometry[kept])).all(axis=1)
        if not kept.any():
            raise MossError(f"{path} holds no shapes.", "Choose another file or layer.")
        columns = {str(n): v[kept] for n, v in zip(meta["fields"], fields, strict=True)}
        crs = meta["crs"] or _system_of_table(path)
        if crs is not None:
            reference_system(crs)
        return Shapes(np.asarray(geometry[kept]), columns, crs)


def _check_virtual(path: Path) -> None:
    """Refuse what only points at other data, whatever its ending says: such files are never opened as
    shapes.
    """
    with path.open("rb") as file:
        head = file.read(4096).lstrip()
    if head.startswith((b"<OGRVRT", b"<VRT", b"<GDAL")) or b'"gdal_streamed_alg"' in head:
        raise MossError(
            f"{path} holds no shapes of its own: it points at other data.", "Open the data itself."
        )


def _options(path: Path) -> dict[str, str]:
    """How a table is read: its rows as points where it says where they lie, its numbers as numbers.

    The library is told of one column each way: it crashes where several could be meant.
    """
    if path.suffix.lower() != ".csv":
        return {}
    found = _places_in(path)
    if found is None:
        return {"AUTODETECT_TYPE": "YES"}
    return {
        "X_POSSIBLE_NAMES": found[0],
        "Y_POSSIBLE_NAMES": found[1],
        "KEEP_GEOM_COLUMNS": "NO",
        "AUTODETECT_TYPE": "YES",
    }


def _places_in(path: Path) -> tuple[str, str] | None:
    """The columns of a table that hold the place of each row; None where it has none.

    Raises MossError where it has one of them twice.
    """
    with path.open(encoding="utf-8-sig", errors="replace") as file:
        head = file.readline(_LONG_HEAD)
    for mark in _BETWEEN:
        names = [n.strip().strip('"').strip().lower() for n in head.split(mark)]
        for x, y in _PLACES:
            if x in names and y in names:
                twice = [n for n in (x, y) if names.count(n) > 1]
                if twice:
                    raise MossError(
                        f"{path} has {names.count(twice[0])} columns called {twice[0]}.",
                        "Give each a name of its own.",
                    )
                return x, y
    return None


def _system_of_table(path: Path) -> str | None:
    """Longitude and latitude when a table's columns say so; else it is not known."""
    if path.suffix.lower() != ".csv":
        return None
    return "EPSG:4326" if _places_in(path) in _DEGREES else None


def write_shapes(path: Path, shapes: Shapes, layer: str | None = None, about: str = "") -> None:
    """Write shapes whole or not at all; the ending chooses GeoPackage, GeoJSON or FlatGeobuf.

    GeoJSON is written in longitude and latitude as RFC 7946 asks when the reference system is known. Other
    layers of a GeoPackage stay; ``about`` describes this one. What was written is read back and counted.
    """
    pyogrio = vector_library()

    driver = DRIVERS.get(path.suffix.lower())
    if driver is None:
        raise MossError(f"'{path.suffix}' is no format for shapes here.", f"Use one of {', '.join(DRIVERS)}.")
    if driver == "GeoJSON":
        shapes = in_system(shapes, "EPSG:4326") if shapes.crs else shapes
    shapes = _of_one_type(shapes)
    kinds = {g.geom_type for g in shapes.geometry}
    options: dict[str, Any] = {
        "geometry_type": kinds.pop() if len(kinds) == 1 else "Unknown",
        "driver": driver,
        "crs": shapes.crs,
    }
    options |= {"layer": printable(layer or path.stem)[:120]}
    if driver == "GeoJSON" and shapes.crs:
        options["RFC7946"] = "YES"
    if driver == "GPKG":  # the format's own columns take names that no column of the shapes has
        taken = {c.lower() for c in shapes.columns}
        options |= {"FID": free_name("fid", taken), "GEOMETRY_NAME": free_name("geom", taken)}
        options |= {"DESCRIPTION": printable(about)[:1000]} if about else {}
    with whole_file(path, side_files) as temporary:
        if driver == "GPKG" and path.exists() and _holds_others(path, options["layer"]):
            _copy_package(path, temporary)
        else:
            temporary.unlink()
        with (
            in_words(path, "written as shapes", "The disk may be full, or a name of a column too long."),
            warnings.catch_warnings(),
        ):
            warnings.simplefilter("ignore")
            # A layer says when it was last changed: the same shapes are to be the same file.
            pyogrio.set_gdal_config_options({"OGR_CURRENT_DATE": _DATE})
            pyogrio.raw.write(
                temporary,
                shapely.to_wkb(shapes.geometry),
                list(shapes.columns.values()),
                list(shapes.columns),
                **options,
            )
            # Some formats state how many there are; of those that do not, or hold none, they are counted.
            layer = options["layer"] if driver == "GPKG" else None
            written = pyogrio.read_info(temporary, layer=layer, force_feature_count=True)["features"]
        if written != len(shapes):
            raise MossError(
                f"{path} could not be written whole: {written:,} of {len(shapes):,} shapes.",
                "The disk may be full.",
            )


def write_table_layer(path: Path, columns: Mapping[str, np.ndarray], layer: str, about: str = "") -> None:
    """Write columns as a layer of a GeoPackage without geometry, whole or not at all; its other layers
    stay.
    """
    pyogrio = vector_library()
    name = printable(layer)[:120]
    taken = {c.lower() for c in columns}
    options: dict[str, Any] = {"driver": "GPKG", "layer": name, "FID": free_name("fid", taken)}
    options |= {"DESCRIPTION": printable(about)[:1000]} if about else {}
    with whole_file(path, side_files) as temporary:
        if path.exists() and _holds_others(path, name):
            _copy_package(path, temporary)
        else:
            temporary.unlink()
        with in_words(path, "written", "The disk may be full."), warnings.catch_warnings():
            warnings.simplefilter("ignore")
            pyogrio.set_gdal_config_options({"OGR_CURRENT_DATE": _DATE})
            values = [v.astype(object) if v.dtype.kind == "U" else v for v in columns.values()]
            pyogrio.raw.write(temporary, None, values, list(columns), geometry_type=None, **options)


_DATE = "2026-01-01T00:00:00Z"
_ONE_AND_MANY = (
    (0, 4, shapely.multipoints),
    (1, 5, shapely.multilinestrings),
    (3, 6, shapely.multipolygons),
)
"""Numbers of the types of one geometry and of many, and what makes many of one (GEOS)."""


def _of_one_type(shapes: Shapes) -> Shapes:
    """Shapes as many where some are one and some many: other programs take one type for each layer."""
    types = {int(t) for t in np.unique(shapely.get_type_id(shapes.geometry))}
    for one, many, collect in _ONE_AND_MANY:
        if types == {one, many}:
            geometry = shapes.geometry.copy()
            single = np.flatnonzero(shapely.get_type_id(geometry) == one)
            geometry[single] = [collect([g]) for g in geometry[single]]
            return replace(shapes, geometry=geometry)
    return shapes


def _holds_others(path: Path, layer: str) -> bool:
    """Whether a GeoPackage holds anything but a layer: shapes, tables, grids or what else there may be."""
    try:
        with closing(sqlite3.connect(f"{path.resolve().as_uri()}?mode=ro", uri=True)) as package:
            return any(name != layer for (name,) in package.execute("SELECT table_name FROM gpkg_contents"))
    except sqlite3.Error:
        return False


def _copy_package(path: Path, temporary: Path) -> None:
    """Copy a GeoPackage with what its journals hold, as one that another program has open may have some of
    its content there.
    """
    with (
        closing(sqlite3.connect(f"{path.resolve().as_uri()}?mode=rw", uri=True)) as old,
        closing(sqlite3.connect(temporary)) as new,
    ):
        old.backup(new)


def in_system(shapes: Shapes, crs: str | None) -> Shapes:
    """Carry shapes over to another reference system; unknown systems are taken as the same.

    Raises MossError where there is no way to the other system, or it does not reach as far as the shapes.
    """
    if crs is None or shapes.crs is None or reference_system(crs) == reference_system(shapes.crs):
        return shapes
    source, target = shapes.crs, crs
    moved = shapely.transform(
        shapes.geometry, lambda xy: np.column_stack(carried(source, target, xy[:, 0], xy[:, 1]))
    )
    if not np.isfinite(shapely.get_coordinates(moved)).all():
        raise MossError(
            "Some shapes lie where the other reference system does not reach.",
            "Choose others, or another system.",
        )
    return Shapes(np.asarray(moved), shapes.columns, crs, shapes.symbols)


def box_of(shapes: Shapes, crs: str | None) -> Box | None:
    """The box that shapes lie in, in the system of a grid; None where there is nothing."""
    xmin, ymin, xmax, ymax = shapely.total_bounds(in_system(shapes, crs).geometry).tolist()
    return None if np.isnan(xmin) else (xmin, ymin, xmax, ymax)
