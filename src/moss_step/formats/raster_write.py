"""Grids and class maps written as GeoTIFF, NetCDF and ASCII grids, whole or not at all."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from xml.sax.saxutils import escape

import numpy as np
import rasterio
from rasterio.errors import RasterioError
from rasterio.transform import from_origin
from rasterio.windows import Window

from moss_step import __version__
from moss_step.formats import netcdf
from moss_step.formats.raster import LINEAGE, QUANTITY, UNIT
from moss_step.formats.source import side_files
from moss_step.formats.tiled import TiledFile, lay_out
from moss_step.formats.whole import first_line, printable, whole_file, write_text
from moss_step.model.class_map import NO_CLASS, ClassEntry, ClassMap, code_counts
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.frame import Frame, reference_system
from moss_step.model.progress import Progress, silent
from moss_step.model.surface import Surface
from moss_step.model.units import NONE, UNKNOWN, Unit

NO_DATA = -9999.0
_UNIT_WORDS = {
    "us_survey_foot": "US_survey_foot", "bearing": "degree", "angle_degree": "degree", "per_metre": "m-1",
    "shade": "1", "none": "", "fraction": "1", "cells": "1", "count": "1", "unknown": "",
}  # fmt: skip
"""Words of other programs for our units (UDUNITS, Unidata); the others are words of these already."""


def write_surface(
    path: Path, surface: Surface, name: str, progress: Progress | None = None, lineage: str = ""
) -> None:
    """Write a surface as a Cloud Optimized GeoTIFF (deflate, tiled, overviews) or, by the endings ``.nc`` and
    ``.asc``, as NetCDF (CF), or as an ASCII grid with its reference system beside it.

    NaN becomes the file's no-data value -9999; unit, name, program and lineage are written beside the values.
    """
    low = (surface.range or (0.0, 0.0))[0]
    kind = surface.values.dtype
    no_data = NO_DATA if low > NO_DATA else float(np.finfo(np.float32).min)
    if path.suffix.lower() == netcdf.ENDING:
        about = {QUANTITY.lower(): surface.quantity, UNIT.lower(): surface.unit.key}
        with whole_file(path, side_files) as temporary:
            words = _UNIT_WORDS.get(surface.unit.key, surface.unit.key) or "1"
            netcdf.write(temporary, surface, name, words, no_data, about, progress, _undated(lineage))
        return
    as_text = path.suffix.lower() == ".asc"
    if as_text and abs(surface.frame.dx - surface.frame.dy) > 1e-9 * surface.frame.dx:
        raise MossError("An ASCII grid needs square cells.", "Use the ending .tif, or reproject first.")
    beside = _sides_of_text if as_text else side_files
    with whole_file(path, beside) as temporary, _plain_beside(temporary) as plain:
        with _created(plain, path, surface.frame, {"dtype": kind.name, "nodata": no_data}) as file:
            _describe(file, name, lineage)
            file.units = (_UNIT_WORDS.get(surface.unit.key, surface.unit.key),)
            file.update_tags(1, **{QUANTITY: surface.quantity, UNIT: surface.unit.key})
            for first, last in (progress or silent()).blocks(surface.frame.rows, 512, f"Writing {path.name}"):
                block = surface.values[first:last]
                window = Window(0, first, surface.frame.cols, last - first)
                file.write(np.where(np.isnan(block), kind.type(no_data), block), 1, window=window)
        if as_text:
            _as_ascii_grid(plain, temporary, path, 9 if kind == np.float32 else 17)
        else:
            by = "NEAREST" if surface.cyclic else "MODE" if surface.whole else "AVERAGE"
            _as_optimized(plain, temporary, path, by)
    if as_text and surface.frame.crs is not None:
        system = reference_system(surface.frame.crs)
        write_text(path.with_suffix(".prj"), f"{system.to_wkt('WKT1_ESRI')}\n")


def _sides_of_text(path: Path) -> list[Path]:
    """What lies beside an older ASCII grid and would speak of the new one: its reference system, too."""
    system = path.with_suffix(".prj")
    return [*side_files(path), *([system] if system.is_file() else [])]


def begin_surface(
    path: Path, frame: Frame, dtype: np.dtype, unit: Unit, quantity: str, name: str, lineage: str
) -> TiledFile:
    """Lay out a tiled GeoTIFF for a surface that is filled in tile by tile: uncompressed, and without
    overviews.

    No-data is the lowest number of single precision: what is lowest in the grid is not known yet.
    """

    def describe(file: rasterio.io.DatasetWriter) -> None:
        _describe(file, name, lineage)
        file.units = (_UNIT_WORDS.get(unit.key, unit.key),)
        file.update_tags(1, **{QUANTITY: quantity, UNIT: unit.key})

    return lay_out(path, frame, dtype, float(np.finfo(np.float32).min), describe)


def begin_classes(
    path: Path, frame: Frame, classes: tuple[ClassEntry, ...], name: str, lineage: str
) -> TiledFile:
    """Lay out a tiled GeoTIFF for a class map that is filled in tile by tile."""

    def describe(file: rasterio.io.DatasetWriter) -> None:
        _describe(file, name, lineage)
        _describe_classes(file, classes)

    return lay_out(path, frame, np.dtype(np.uint8), NO_CLASS, describe)


def _describe_classes(file: rasterio.io.DatasetWriter, classes: tuple[ClassEntry, ...]) -> None:
    file.write_colormap(1, {c.code: (*_rgb(c.color), 255) for c in classes})
    file.update_tags(1, **{f"CLASS_{c.code}": tagged(c.name) for c in classes})
    file.update_tags(1, **{f"RANGE_{c.code}": tagged(c.text) for c in classes})


def losses(path: Path, surface: Surface) -> tuple[str, ...]:
    """What a file of this ending cannot say of a surface."""
    if path.suffix.lower() != ".asc" or surface.unit in (NONE, UNKNOWN):
        return ()
    return (f"An ASCII grid holds no unit: its values are {surface.unit.key.replace('_', ' ')}.",)


def write_class_map(
    path: Path, classes: ClassMap, name: str, progress: Progress | None = None, lineage: str = ""
) -> None:
    """Write a class map as an 8-bit Cloud Optimized GeoTIFF with colour table; overviews hold the most
    frequent class; or by the ending ``.nc`` as NetCDF (CF), with the classes as flags.

    No class is the no-data value 255. Class names go in its tags; the sidecar ``.aux.xml`` carries names,
    bounds, colours and cells as an attribute table for programs of the raster library.
    """
    if path.suffix.lower() == ".asc":
        raise AskedWronglyError("An ASCII grid cannot carry class names and colours.", "Use the ending .tif.")
    if path.suffix.lower() == netcdf.ENDING:
        with whole_file(path, side_files) as temporary:
            netcdf.write_classes(temporary, classes, name, progress, _undated(lineage))
        return
    with whole_file(path, side_files) as temporary, _plain_beside(temporary) as plain:
        with _created(plain, path, classes.frame, {"dtype": "uint8", "nodata": NO_CLASS}) as file:
            _describe(file, name, lineage)
            _describe_classes(file, classes.classes)
            for first, last in (progress or silent()).blocks(classes.frame.rows, 512, f"Writing {path.name}"):
                window = Window(0, first, classes.frame.cols, last - first)
                file.write(classes.codes[first:last], 1, window=window)
        _as_optimized(plain, temporary, path, "MODE")
    write_text(Path(f"{path}.aux.xml"), attribute_table(classes.classes, code_counts(classes.codes)))


@contextmanager
def _plain_beside(temporary: Path) -> Iterator[Path]:
    """A file that the values are written into first, beside the one that they end in; it goes afterwards."""
    plain = temporary.with_name(f"{temporary.name}.plain.tif")
    try:
        yield plain
    finally:
        plain.unlink(missing_ok=True)


@contextmanager
def _created(
    plain: Path, path: Path, frame: Frame, profile: dict[str, object]
) -> Iterator[rasterio.io.DatasetWriter]:
    try:
        with rasterio.open(
            plain,
            "w",
            driver="GTiff",
            height=frame.rows,
            width=frame.cols,
            count=1,
            crs=frame.crs,
            transform=from_origin(frame.x0, frame.y0, frame.dx, frame.dy),
            BIGTIFF="IF_SAFER",
            **profile,
        ) as file:
            yield file
    except RasterioError as error:
        raise _not_written(path, error) from error


def _describe(file: rasterio.io.DatasetWriter, name: str, lineage: str) -> None:
    """Say what the values are, which program wrote them, and how they came about."""
    file.descriptions = (tagged(name),)
    about = {"TIFFTAG_SOFTWARE": f"Moss Step {__version__}", "TIFFTAG_IMAGEDESCRIPTION": tagged(name)}
    file.update_tags(**about, **({LINEAGE: printable(_undated(lineage))} if lineage else {}))


def _undated(lineage: str) -> str:
    """A lineage without its date: the same result is the same file."""
    return "\n".join(line for line in lineage.splitlines() if not line.startswith("Written:"))


def _as_optimized(plain: Path, target: Path, path: Path, overviews: str) -> None:
    """Lay a file out as a Cloud Optimized GeoTIFF, with overviews worked out as fits its values."""
    _copied(
        plain,
        target,
        path,
        driver="COG",
        compress="DEFLATE",
        predictor="YES",
        blocksize=256,
        overview_resampling=overviews,
        num_threads="ALL_CPUS",
        BIGTIFF="IF_SAFER",
    )
    _verify(target, path)


def _as_ascii_grid(plain: Path, target: Path, path: Path, digits: int) -> None:
    try:
        _copied(plain, target, path, driver="AAIGrid", SIGNIFICANT_DIGITS=str(digits))
    finally:
        target.with_suffix(".prj").unlink(missing_ok=True)


def _copied(plain: Path, target: Path, path: Path, **options: object) -> None:
    from rasterio.shutil import copy

    try:
        copy(plain, target, **options)
    except RasterioError as error:
        raise _not_written(path, error) from error


def tagged(text: str) -> str:
    """A name as the format's fields can hold it: without nulls and half characters."""
    return printable(text)[:200]


def _verify(temporary: Path, path: Path) -> None:
    """Read the whole file back: a disk that filled up may only show in the file itself."""
    try:
        with rasterio.open(temporary) as file:
            for first in range(0, file.height, 512):
                file.read(1, window=Window(0, first, file.width, min(512, file.height - first)))
    except RasterioError as error:
        raise _not_written(path, error) from error


def _not_written(path: Path, error: Exception) -> MossError:
    return MossError(
        f"{path} could not be written: {first_line(error)}",
        "The disk may be full. Free some space, or choose another.",
    )


def attribute_table(classes: tuple[ClassEntry, ...], counts: np.ndarray) -> str:
    """The sidecar of a class map: names of categories, and a table with a row for each class.

    Numbers of types and usages are those of the raster library's attribute tables: 0 whole numbers, 2 text;
    0 plain, 1 cells, 2 name, 5 value, 6 to 8 red, green and blue.
    """
    names = {c.code: c.name for c in classes}
    categories = "".join(
        f"      <Category>{escape(names.get(k, ''))}</Category>\n" for k in range(max(names, default=0) + 1)
    )
    fields = (
        ("Value", 0, 5), ("Class", 2, 2), ("Bounds", 2, 0), ("Count", 0, 1), ("Red", 0, 6), ("Green", 0, 7),
        ("Blue", 0, 8),
    )  # fmt: skip
    heads = "".join(
        f'      <FieldDefn index="{k}"><Name>{n}</Name><Type>{t}</Type><Usage>{u}</Usage></FieldDefn>\n'
        for k, (n, t, u) in enumerate(fields)
    )
    rows = ""
    for k, c in enumerate(classes):
        cells = (c.code, escape(c.name), escape(c.text), int(counts[c.code]), *_rgb(c.color))
        rows += f'      <Row index="{k}">{"".join(f"<F>{v}</F>" for v in cells)}</Row>\n'
    return (
        '<PAMDataset>\n  <PAMRasterBand band="1">\n'
        f"    <CategoryNames>\n{categories}    </CategoryNames>\n"
        f'    <GDALRasterAttributeTable tableType="thematic">\n{heads}{rows}    </GDALRasterAttributeTable>\n'
        "  </PAMRasterBand>\n</PAMDataset>\n"
    )


def _rgb(color: str) -> tuple[int, int, int]:
    return int(color[1:3], 16), int(color[3:5], 16), int(color[5:7], 16)
