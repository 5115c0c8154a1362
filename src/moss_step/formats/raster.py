"""Grids and class maps in raster files: what a file states, reading it, writing GeoTIFF, NetCDF and ASCII
grids.
"""

from __future__ import annotations

import re
import warnings
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from xml.sax.saxutils import escape

import numpy as np
import rasterio
from rasterio.enums import ColorInterp, MaskFlags, Resampling
from rasterio.errors import RasterioError
from rasterio.io import DatasetReader
from rasterio.transform import Affine, from_origin
from rasterio.warp import reproject
from rasterio.windows import Window

from moss_step import __version__
from moss_step.formats import netcdf, virtual
from moss_step.formats.drivers import GRIDS
from moss_step.formats.source import side_files
from moss_step.formats.whole import check_readable, first_line, in_words, printable, whole_file, write_text
from moss_step.model.arrays import blurred
from moss_step.model.class_map import NO_CLASS, ClassEntry, ClassMap
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.frame import Box, Frame, reference_system
from moss_step.model.kernels.summary import drop_infinite
from moss_step.model.memory import check_grid
from moss_step.model.progress import Progress, silent
from moss_step.model.surface import Surface
from moss_step.model.units import (
    ANGLE,
    BEARING,
    DEGREE,
    NONE,
    PER_METRE,
    PERCENT,
    SHADE,
    UNITS,
    UNKNOWN,
    Unit,
    unit_named,
)

NO_DATA = -9999.0
QUANTITY, UNIT, LINEAGE = "MOSS_STEP_QUANTITY", "MOSS_STEP_UNIT", "MOSS_STEP_LINEAGE"
_UNIT_WORDS = {
    "us_survey_foot": "US_survey_foot", "bearing": "degree", "angle_degree": "degree", "per_metre": "m-1",
    "shade": "1", "none": "", "fraction": "1", "cells": "1", "count": "1", "unknown": "",
}  # fmt: skip
"""Words of other programs for our units (UDUNITS, Unidata); the others are words of these already."""
"""Tags of a band that say what it measures, and in which unit: a file remembers what no format has a field
for.
"""
ENDINGS = (".tif", ".tiff", ".asc", netcdf.ENDING)

_QUANTITIES = {
    DEGREE: "slope",
    PERCENT: "slope",
    BEARING: "aspect",
    SHADE: "shade",
    NONE: "value",
    ANGLE: "angle",
    PER_METRE: "curvature",
}


@dataclass(frozen=True)
class RasterFacts:
    """What a raster file states about one band, before its values are read."""

    path: Path
    driver: str
    rows: int
    cols: int
    bands: int
    dtype: str
    transform: Affine
    crs: str | None
    unit: Unit
    unit_text: str
    no_data: float | None
    scale: float
    offset: float
    has_position: bool
    quantity: str = ""
    """What the band measures, where it was written here."""
    assumed: str = ""
    """What was taken for a reference system that the file only hints at, in words."""

    @property
    def rotated(self) -> bool:
        """Whether the grid's rows do not run east."""
        return bool(abs(self.transform.b) > 1e-12 or abs(self.transform.d) > 1e-12)


Band = int | str | None
"""Number of a band, name of a grid of a NetCDF file (``name`` or ``name#2``), or None."""


def split_band(source: str) -> tuple[Path, Band]:
    """Split ``file.tif#2`` in its path and band, ``file.nc#depth`` in its path and grid; None when none is
    named.
    """
    if Path(source).exists():
        return Path(source), None
    head, mark, tail = source.rpartition("#")
    if mark and re.fullmatch("[0-9]{1,6}", tail):
        file, named, grid = head.rpartition("#")
        if named and not Path(head).exists() and file.lower().endswith(netcdf.ENDING):
            return Path(file), f"{grid}#{tail}"
        return Path(head), int(tail)
    if mark and head.lower().endswith(netcdf.ENDING):
        return Path(head), tail
    return Path(source), None


@contextmanager
def _opened(path: Path, band: Band = None, values: bool = True) -> Iterator[DatasetReader]:
    """Open a grid with one of our drivers; a virtual one only by its ending, once its sources were checked;
    a classic NetCDF file by its own reader, without its values where those are not wanted.
    """
    check_readable(path)
    grid = band.partition("#")[0] if isinstance(band, str) else ""
    if netcdf.is_classic(path):
        with netcdf.opened_classic(path, grid, values) as file:
            yield file
        return
    drivers, name = [d for d in GRIDS if d != "netCDF"], str(path)
    if netcdf.is_hdf5(path):
        drivers, name = ["netCDF"], _grid_name(path, grid)
    elif path.suffix.lower() == virtual.ENDING:
        for source in virtual.sources_of(path):
            if source.suffix.lower() != virtual.ENDING:
                if netcdf.is_classic(source) or netcdf.is_hdf5(source):
                    raise MossError(
                        f"{path} is made of {source}, and NetCDF is not read in a virtual grid.", "Open it."
                    )
                with _opened(source):
                    pass
        drivers = ["VRT"]
    with (
        warnings.catch_warnings(),
        in_words(
            path,
            "read as a raster",
            "It may be cut short or no raster that is read here. Fetch or copy it again.",
        ),
    ):
        warnings.simplefilter("ignore")
        with rasterio.Env(CPL_CURL_ENABLE_VSIMEM="NO"), DatasetReader(name, driver=drivers) as file:
            yield file


def _grid_name(path: Path, grid: str) -> str:
    """How the raster library names a grid of a NetCDF file."""
    if '"' in str(path):
        raise MossError(f"{path} has a quotation mark in its name.", "Give it another name.")
    if grid and not re.fullmatch(r"[\w .+@-]{1,200}", grid):
        raise AskedWronglyError(f"'{printable(grid)}' is no name of a grid.", "Give one of the file's.")
    return f'NETCDF:"{path}":{grid}' if grid else str(path)


def describe(path: Path, band: Band = None) -> RasterFacts:
    """Read what a raster states about itself.

    Raises MossError when the file cannot be opened, has several bands and none is chosen, or holds no real
    numbers.
    """
    with _opened(path, band, values=False) as file:
        chosen = _band(file, path, band)
        if file.dtypes[chosen - 1].startswith("complex"):
            raise MossError(f"{path} holds complex numbers.", "Choose an elevation grid.")
        if not np.isfinite(file.transform[:6]).all() or not abs(file.transform.determinant) > 0.0:
            raise MossError(
                f"{path} does not say where its cells lie: their size is no number.", "Fetch it again."
            )
        placed = not (file.transform.is_identity and file.crs is None)
        unit_text = file.units[chosen - 1] or ""
        tags = file.tags(chosen)
        unit = (
            UNITS.get(tags.get(UNIT, tags.get(UNIT.lower(), "")))
            or unit_named(unit_text)
            or _vertical_unit(file)
            or UNKNOWN
        )
        quantity = _own(tags, QUANTITY)
        system, assumed = _system(file)
        return RasterFacts(
            path=path,
            driver=file.driver,
            rows=file.height,
            cols=file.width,
            bands=file.count,
            dtype=file.dtypes[chosen - 1],
            transform=file.transform if placed else Affine(1, 0, 0, 0, -1, file.height),
            crs=system,
            unit=unit,
            unit_text=unit_text,
            no_data=file.nodatavals[chosen - 1],
            scale=file.scales[chosen - 1],
            offset=file.offsets[chosen - 1],
            has_position=placed,
            quantity=quantity if re.fullmatch("[a-z_]{1,40}", quantity) else "",
            assumed=assumed,
        )


def _own(tags: dict[str, str], name: str) -> str:
    """What was written here as a tag; other formats have their names in small letters."""
    return tags.get(name) or tags.get(name.lower(), "")


def _system(file: DatasetReader) -> tuple[str | None, str]:
    """The system that a file states, or that is taken where it says latitude and no more; and that in
    words.
    """
    if file.crs is not None:
        return file.crs.to_wkt(), ""
    degrees = [v for k, v in file.tags().items() if k.endswith("#units") and netcdf.in_degrees(v)]
    if not degrees:
        return None, ""
    return reference_system(netcdf.ASSUMED).to_wkt(), (
        "The file says latitude and longitude, and not on which datum: WGS 84 is taken."
    )


def frame_in(source: str) -> tuple[Frame, str]:
    """A frame with as many cells as a file's grid, from its head alone, and that size in words."""
    facts = describe(*split_band(source))
    said = f"{facts.rows:,} x {facts.cols:,} cells".replace(",", " ")
    return Frame(facts.rows, facts.cols, 0.0, 0.0, 1.0, 1.0, None), said


def read_surface(
    path: Path,
    band: Band = None,
    box: Box | None = None,
    no_data: float | None = None,
    progress: Progress | None = None,
) -> tuple[Surface, list[str]]:
    """Read one band as a surface, north up, no-data as NaN, scale and offset applied; with remarks on what
    was done.

    ``no_data`` names a further value that stands for no-data, as it is read: through scale and offset. Values
    are single precision, and double where that could not hold a thousandth of their relief. Raises MossError
    for files that cannot be read whole or do not fit in memory.
    """
    facts = describe(path, band)
    progress = progress or silent()
    remarks: list[str] = [facts.assumed] if facts.assumed else []
    with _opened(path, band) as file:
        chosen = _band(file, path, band)
        window = _window(facts, box)
        check_grid(
            int(window.height) * int(window.width),
            str(path),
            "Read a part of it with box=xmin,ymin,xmax,ymax.",
        )
        values = _read_values(file, chosen, facts, window, no_data, progress)
        transform = facts.transform * Affine.translation(window.col_off, window.row_off)
    infinite = int(drop_infinite(values))
    if infinite:
        remarks.append(f"{infinite:,} infinite values are taken as no-data.")
    if values.dtype == np.float64:
        remarks.append("The relief is small for so large values: they are kept in double precision.")
    if facts.rotated:
        values, transform = _north_up(values, transform)
        remarks.append("The grid is rotated; it was resampled to run north, with new cells.")
    values, frame = _upright(values, transform, facts.crs)
    return Surface(values, frame, facts.unit, facts.quantity or quantity_in(facts.unit)), remarks


def quantity_in(unit: Unit) -> str:
    """What is measured in a unit: slope in degrees, aspect in bearings; elevation when nothing else is
    stated.
    """
    return _QUANTITIES.get(unit, "elevation")


def _read_values(
    file: DatasetReader,
    band: int,
    facts: RasterFacts,
    window: Window,
    no_data: float | None,
    progress: Progress,
) -> np.ndarray:
    rows, cols = int(window.height), int(window.width)
    exact = facts.dtype in ("float32", "int8", "uint8", "int16", "uint16") and (
        facts.scale,
        facts.offset,
    ) == (1.0, 0.0)
    values = np.empty((rows, cols), np.float32 if exact else np.float64)
    masked = MaskFlags.all_valid not in file.mask_flag_enums[band - 1]
    step = max(file.block_shapes[band - 1][0], 256)
    for first, last in progress.blocks(rows, step, "Reading the grid"):
        part = Window(window.col_off, window.row_off + first, cols, last - first)
        raw = file.read(band, window=part)
        block = (
            raw.astype(np.float64) * facts.scale + facts.offset
            if (facts.scale, facts.offset) != (1.0, 0.0)
            else raw
        )
        with np.errstate(over="ignore"):  # beyond float32 becomes infinite and is told as such
            values[first:last] = block
        if masked:
            values[first:last][file.read_masks(band, window=part) == 0] = np.nan
        if no_data is not None:
            values[first:last][np.isclose(values[first:last], no_data, rtol=1e-7, atol=0.0)] = np.nan
    return values if exact or blurred(values) else values.astype(np.float32)


def _upright(values: np.ndarray, transform: Affine, crs: str | None) -> tuple[np.ndarray, Frame]:
    """Turn a grid whose rows run north or columns run west."""
    rows, cols = values.shape
    x0, y0 = transform.c, transform.f
    if transform.e > 0:
        values, y0 = values[::-1], y0 + rows * transform.e
    if transform.a < 0:
        values, x0 = values[:, ::-1], x0 + cols * transform.a
    frame = Frame(rows, cols, x0, y0, abs(transform.a), abs(transform.e), crs)
    return np.ascontiguousarray(values), frame


def _north_up(values: np.ndarray, transform: Affine) -> tuple[np.ndarray, Affine]:
    """Resample a rotated grid to rows that run east, bilinearly."""
    rows, cols = values.shape
    # The system only has to be the same on both sides: the turn is a matter of the two transforms.
    same = "EPSG:3857"
    corners = [transform * p for p in ((0, 0), (cols, 0), (0, rows), (cols, rows))]
    xs, ys = [c[0] for c in corners], [c[1] for c in corners]
    cell = float(np.hypot(transform.a, transform.d))
    height = float(np.hypot(transform.b, transform.e))
    new_cols = max(1, round((max(xs) - min(xs)) / cell))
    new_rows = max(1, round((max(ys) - min(ys)) / height))
    check_grid(new_rows * new_cols, "The grid turned north", "Turn it before it is read here.")
    target = from_origin(min(xs), max(ys), cell, height)
    out = np.full((new_rows, new_cols), np.nan, values.dtype)
    reproject(
        values,
        out,
        src_transform=transform,
        dst_transform=target,
        src_crs=same,
        dst_crs=same,
        src_nodata=np.nan,
        dst_nodata=np.nan,
        resampling=Resampling.bilinear,
    )
    return out, target


def _band(file: DatasetReader, path: Path, band: Band) -> int:
    """The number of a band that was chosen, or of the only one."""
    if isinstance(band, str):
        number = band.partition("#")[2]
        if not netcdf.is_classic(path) and not netcdf.is_hdf5(path):
            raise AskedWronglyError(f"{path} has no grids with names.", f"Choose a band: {path.name}#1.")
        band = int(number) if number else None
    if file.count == 0 and file.driver == "netCDF":
        raise netcdf.several(path, [s.rpartition(":")[2] for s in file.subdatasets])
    if file.count == 0:
        raise MossError(f"{path} holds no single raster.", "Choose one of the grids inside it.")
    if band is None:
        if file.count > 1 and ColorInterp.alpha not in file.colorinterp[1:2]:
            raise MossError(
                f"{path} has {file.count} bands, and a surface is one.",
                f"Choose a band, such as {path.name}#1.",
            )
        return 1
    if not 1 <= band <= file.count:
        raise AskedWronglyError(f"{path} has no band {band}.", f"It has bands 1 to {file.count}.")
    return band


def _vertical_unit(file: DatasetReader) -> Unit | None:
    if file.crs is None:
        return None
    from pyproj import CRS

    axes = CRS.from_wkt(file.crs.to_wkt()).axis_info
    return unit_named(axes[2].unit_name) if len(axes) > 2 else None


def _window(facts: RasterFacts, box: Box | None) -> Window:
    whole = Window(0, 0, facts.cols, facts.rows)
    if box is None:
        return whole
    if facts.rotated or facts.transform.e > 0 or facts.transform.a < 0:
        raise MossError(
            "A part of a grid that is turned cannot be read by itself.", "Open it whole, then crop it."
        )
    t = facts.transform
    rows, cols = Frame(facts.rows, facts.cols, t.c, t.f, t.a, -t.e).window(box)
    return Window(cols.start, rows.start, cols.stop - cols.start, rows.stop - rows.start)


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


def losses(path: Path, surface: Surface) -> tuple[str, ...]:
    """What a file of this ending cannot say of a surface."""
    if path.suffix.lower() != ".asc" or surface.unit in (NONE, UNKNOWN):
        return ()
    return (f"An ASCII grid holds no unit: its values are {surface.unit.key.replace('_', ' ')}.",)


def write_class_map(
    path: Path, classes: ClassMap, name: str, progress: Progress | None = None, lineage: str = ""
) -> None:
    """Write a class map as an 8-bit Cloud Optimized GeoTIFF with colour table; overviews hold the most
    frequent class.

    No class is the no-data value 255. Class names go in its tags; the sidecar ``.aux.xml`` carries names,
    bounds, colours and cells as an attribute table for programs of the raster library.
    """
    if path.suffix.lower() == ".asc":
        raise AskedWronglyError("An ASCII grid cannot carry class names and colours.", "Use the ending .tif.")
    with whole_file(path, side_files) as temporary, _plain_beside(temporary) as plain:
        with _created(plain, path, classes.frame, {"dtype": "uint8", "nodata": NO_CLASS}) as file:
            _describe(file, name, lineage)
            file.write_colormap(1, {c.code: (*_rgb(c.color), 255) for c in classes.classes})
            file.update_tags(1, **{f"CLASS_{c.code}": tagged(c.name) for c in classes.classes})
            file.update_tags(1, **{f"RANGE_{c.code}": tagged(c.text) for c in classes.classes})
            for first, last in (progress or silent()).blocks(classes.frame.rows, 512, f"Writing {path.name}"):
                window = Window(0, first, classes.frame.cols, last - first)
                file.write(classes.codes[first:last], 1, window=window)
        _as_optimized(plain, temporary, path, "MODE")
    counts = np.bincount(classes.codes.reshape(-1), minlength=256)
    write_text(Path(f"{path}.aux.xml"), attribute_table(classes.classes, counts))


def read_class_map(path: Path) -> ClassMap:
    """Read an 8-bit class map with its colour table and class names.

    Raises MossError when the file is no 8-bit raster.
    """
    facts = describe(path)
    if facts.dtype != "uint8":
        raise MossError(
            f"{path} holds {facts.dtype} values, and a class map holds 8-bit codes.", "Classify it first."
        )
    with _opened(path) as file:
        raw = file.read(1)
        raw[file.read_masks(1) == 0] = NO_CLASS
        tags = file.tags(1)
        colors = file.colormap(1) if file.colorinterp[0] == ColorInterp.palette else {}
    codes, frame = _upright(raw, facts.transform, facts.crs)
    named = {int(k[6:]) for k in tags if k.startswith("CLASS_") and k[6:].isdigit()}
    present = {int(c) for c in np.unique(codes)} - {NO_CLASS}
    entries = tuple(
        ClassEntry(
            c,
            tags.get(f"CLASS_{c}", f"Class {c}"),
            _hex(colors.get(c, (128, 128, 128))),
            tags.get(f"RANGE_{c}", ""),
        )
        for c in sorted(named | present)
    )
    return ClassMap(codes, frame, entries)


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


def _hex(color: tuple[int, ...]) -> str:
    return "#" + "".join(f"{v:02X}" for v in color[:3])
