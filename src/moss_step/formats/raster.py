"""Grids and class maps in raster files: what a file states, and reading it."""

from __future__ import annotations

import re
import warnings
from collections.abc import Iterator
from contextlib import contextmanager
from functools import lru_cache
from pathlib import Path

import numpy as np
import rasterio
from rasterio.enums import ColorInterp, MaskFlags, Resampling
from rasterio.io import DatasetReader
from rasterio.transform import Affine, from_origin
from rasterio.warp import reproject
from rasterio.windows import Window

from moss_step.formats import netcdf, tileset, virtual
from moss_step.formats.drivers import GRIDS
from moss_step.formats.raster_facts import RasterFacts
from moss_step.formats.source import members
from moss_step.formats.whole import check_readable, in_words, printable
from moss_step.model.arrays import blurred
from moss_step.model.class_map import NO_CLASS, ClassEntry, ClassMap, code_counts
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.frame import Box, Frame, reference_system
from moss_step.model.kernels.blanks import drop_infinite, drop_value
from moss_step.model.mapped import check_room, let_go, room_for, too_large
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

QUANTITY, UNIT, LINEAGE = "MOSS_STEP_QUANTITY", "MOSS_STEP_UNIT", "MOSS_STEP_LINEAGE"
"""Tags of a band that say what it measures, and in which unit: a file remembers what no format has a field
for.
"""
INFINITE_TAKEN = "Infinite values are taken as no-data."
KEPT_DOUBLE = "The relief is small for so large values: they are kept in double precision."
_LET_GO = 8
"""Blocks of rows between two times that a mapped grid is taken out of memory while it is read."""
_RAW, _RAW_MORE = ("EHdr", "ENVI"), (1.5, 65_536)
"""Drivers of raw numbers with a head beside them; how many times as many bytes as that tells of a file may
hold, and how many more.
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
def opened(path: Path, band: Band = None, values: bool = True) -> Iterator[DatasetReader]:
    """Open a grid with one of our drivers; a virtual one only by its ending, once its sources were checked;
    a classic NetCDF file by its own reader, without its values where those are not wanted; and all grids of
    a folder or a pattern as one.
    """
    several = _several(path)
    grid = band.partition("#")[0] if isinstance(band, str) else ""
    if not several and netcdf.is_classic(path):
        with netcdf.opened_classic(path, grid, values) as file:
            yield file
        return
    with (
        warnings.catch_warnings(),
        in_words(
            path,
            "read as a raster",
            "It may be cut short or no raster that is read here. Fetch or copy it again.",
        ),
    ):
        warnings.simplefilter("ignore")
        with rasterio.Env(CPL_CURL_ENABLE_VSIMEM="NO"), _by_driver(path, grid, several) as file:
            yield file


def _several(path: Path) -> str:
    """The grids of a folder, or of a pattern, as one virtual grid; empty for a file.

    Raises MossError where there are none, or they do not go together.
    """
    named = members(path)
    if named == [path]:
        check_readable(path)
        return ""
    if not named:
        raise AskedWronglyError(f"{path} holds no grids.", "Choose another folder, pattern or file.")
    with in_words(path, "read"):
        return _as_one(path, tuple((f, f.stat().st_size, f.stat().st_mtime_ns) for f in named))


@lru_cache(maxsize=8)
def _as_one(path: Path, tiles: tuple[tuple[Path, int, int], ...]) -> str:
    """One virtual grid over some files, as they are now: their heads are read once."""
    facts = list[RasterFacts]()
    for tile, _, _ in tiles:
        check_readable(tile)
        _check_no_netcdf(path, tile)
        facts.append(describe(tile, 1))
    first = facts[0]
    known = {UNIT: first.unit.key} if first.unit != UNKNOWN else {}
    return tileset.virtual_text(path, facts, known | ({QUANTITY: first.quantity} if first.quantity else {}))


def held_open(path: Path, band: Band = None, copy: int = 0) -> DatasetReader:
    """Open a grid that is read in windows, for as long as the caller holds it, whichever thread lets it go; a
    ``copy`` above 0 is one of its coarser ones, the finest first.

    Raises MossError for classic NetCDF, which is not read in windows.
    """
    several = _several(path)
    if not several and netcdf.is_classic(path):
        raise MossError(
            f"{path} is classic NetCDF, which is not read in windows.", "Write it as a GeoTIFF first."
        )
    with warnings.catch_warnings(), in_words(path, "read as a raster", "Fetch or copy it again."):
        warnings.simplefilter("ignore")
        with rasterio.Env():
            grid = band.partition("#")[0] if isinstance(band, str) else ""
            return _by_driver(path, grid, several, **({"OVERVIEW_LEVEL": copy - 1} if copy else {}))


def _by_driver(path: Path, grid: str, several: str, **options: object) -> DatasetReader:
    """A grid by one of our drivers; a virtual one once its sources were checked; ``several`` as one, by the
    text that says how they lie.
    """
    if several:
        return rasterio.open(several, driver="VRT", **options)
    drivers, name = [d for d in GRIDS if d != "netCDF"], str(path)
    if netcdf.is_hdf5(path):
        drivers, name = ["netCDF"], _grid_name(path, grid)
    elif path.suffix.lower() == virtual.ENDING:
        for source in virtual.sources_of(path):
            if source.suffix.lower() != virtual.ENDING:
                _check_no_netcdf(path, source)
                with opened(source):
                    pass
        drivers = ["VRT"]
    return DatasetReader(name, driver=drivers, **options)


def _check_no_netcdf(path: Path, source: Path) -> None:
    if netcdf.is_classic(source) or netcdf.is_hdf5(source):
        raise MossError(f"{path} is made of {source}, and NetCDF is not read in a virtual grid.", "Open it.")


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
    with opened(path, band, values=False) as file:
        chosen = band_of(file, path, band)
        if file.dtypes[chosen - 1].startswith("complex"):
            raise MossError(f"{path} holds complex numbers.", "Choose an elevation grid.")
        _check_raw(file, path)
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


def _check_raw(file: DatasetReader, path: Path) -> None:
    """Refuse what only lies beside the head of another file's raw numbers: any file of that name would be
    taken for them.
    """
    if file.driver not in _RAW or not path.is_file():
        return
    told = file.width * file.height * sum(np.dtype(d).itemsize for d in file.dtypes)
    if path.stat().st_size > _RAW_MORE[0] * told + _RAW_MORE[1]:
        head, has = path.with_suffix(".hdr").name, path.stat().st_size
        raise MossError(
            f"{path} is no grid: {head} beside it tells of {told:,} bytes, and it has {has:,}.",
            "Open the file that the head belongs to.",
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
    with opened(path, band) as file:
        chosen = band_of(file, path, band)
        window = _window(facts, box)
        check_room(
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
        remarks.append(KEPT_DOUBLE)
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
    dtype = np.dtype(np.float32 if facts.exact else np.float64)
    mapped = too_large(rows * cols * dtype.itemsize)
    values = room_for(rows * cols, dtype, mapped).reshape(rows, cols)
    step = max(file.block_shapes[band - 1][0], 256)
    for first, last in progress.blocks(rows, step, "Reading the grid"):
        part = Window(window.col_off, window.row_off + first, cols, last - first)
        read_into(values[first:last], file, band, facts, part, no_data)
        if mapped and (first // step) % _LET_GO == 0:
            let_go(values)
    return values if facts.exact or blurred(values) else values.astype(np.float32)


def read_into(
    out: np.ndarray, file: DatasetReader, band: int, facts: RasterFacts, part: Window, no_data: float | None
) -> None:
    """Read a window as the file has it turned: scale and offset applied, no-data as NaN. Into fewer cells
    than it has every so many are read, of the coarser copies where the file holds some.
    """
    scaled, flags = (facts.scale, facts.offset) != (1.0, 0.0), file.mask_flag_enums[band - 1]
    as_held = not scaled and out.dtype == np.dtype(file.dtypes[band - 1]) and out.flags.c_contiguous
    if as_held:
        file.read(band, window=part, out=out)
    else:
        raw = file.read(band, window=part, out_shape=out.shape)
        with np.errstate(over="ignore"):  # beyond float32 becomes infinite and is told as such
            out[:] = raw.astype(np.float64) * facts.scale + facts.offset if scaled else raw
    gone = file.nodatavals[band - 1]
    if as_held and out.dtype == np.float32 and flags == [MaskFlags.nodata] and is_single(gone):
        drop_value(out, np.float32(gone))
    elif MaskFlags.all_valid not in flags:
        out[file.read_masks(band, window=part, out_shape=out.shape) == 0] = np.nan
    if no_data is not None:
        out[np.isclose(out, no_data, rtol=1e-7, atol=0.0)] = np.nan


def is_single(value: float | None) -> bool:
    """Whether single precision holds a value that stands for no-data."""
    return value is not None and not abs(value) > np.finfo(np.float32).max


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


def band_of(file: DatasetReader, path: Path, band: Band) -> int:
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


def read_class_map(path: Path) -> ClassMap:
    """Read an 8-bit class map with its colour table and class names.

    Raises MossError when the file is no 8-bit raster.
    """
    facts = describe(path)
    if facts.dtype != "uint8":
        raise MossError(
            f"{path} holds {facts.dtype} values, and a class map holds 8-bit codes.", "Classify it first."
        )
    with opened(path) as file:
        raw = file.read(1)
        raw[file.read_masks(1) == 0] = NO_CLASS
        tags = file.tags(1)
        colors = file.colormap(1) if file.colorinterp[0] == ColorInterp.palette else {}
    codes, frame = _upright(raw, facts.transform, facts.crs)
    named = {int(k[6:]) for k in tags if k.startswith("CLASS_") and k[6:].isdigit()}
    present = set(np.flatnonzero(code_counts(codes)).tolist()) - {NO_CLASS}
    entries = tuple(
        ClassEntry(
            c,
            tags.get(f"CLASS_{c}", f"Class {c}"),
            _stated_color(tags.get(f"COLOR_{c}", "")) or _hex(colors.get(c, (128, 128, 128))),
            tags.get(f"RANGE_{c}", ""),
        )
        for c in sorted(named | present)
    )
    return ClassMap(codes, frame, entries)


def _stated_color(text: str) -> str:
    """A colour that a file states as ``#RRGGBB``; empty for anything else."""
    return text.upper() if re.fullmatch(r"#[0-9A-Fa-f]{6}", text) else ""


def _hex(color: tuple[int, ...]) -> str:
    return "#" + "".join(f"{v:02X}" for v in color[:3])
