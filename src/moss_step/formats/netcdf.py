"""Grids in NetCDF files after the CF conventions (Climate and Forecast, 1.11).

What is written is the classic format (64-bit offsets), by SciPy. Classic files are read by SciPy, too, and
laid out in memory for the raster library, whose own reader does not survive damaged ones; newer ones, HDF5
inside, the raster library reads itself.
"""

from __future__ import annotations

import math
import re
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from rasterio.io import DatasetReader, MemoryFile
from rasterio.transform import Affine

from moss_step import __version__
from moss_step.formats.whole import in_words, printable
from moss_step.model.class_map import NO_CLASS, ClassMap
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.frame import Frame, reference_system
from moss_step.model.memory import check_grid
from moss_step.model.progress import Progress, silent
from moss_step.model.surface import Surface

if TYPE_CHECKING:
    from scipy.io import netcdf_file

ENDING = ".nc"
_OWN = "moss_step_"
"""How attributes of our own begin."""
ASSUMED = "EPSG:4326"
_CLASSIC, _HDF5 = b"CDF", b"\x89HDF\r\n\x1a\n"
_UNEVEN = 0.01
"""Share of a cell by which coordinates may stray from even spacing: they are often rounded."""
_NORTH = re.compile("degrees?_?(north|n)", re.IGNORECASE)


def is_classic(path: Path) -> bool:
    """Whether a file is NetCDF in its classic format."""
    return _begins(path, _CLASSIC)


def is_hdf5(path: Path) -> bool:
    """Whether a file is NetCDF in its newer format."""
    return _begins(path, _HDF5)


def _begins(path: Path, mark: bytes) -> bool:
    with path.open("rb") as file:
        return file.read(len(mark)) == mark


def in_degrees(units: str) -> bool:
    """Whether the words of a coordinate say degrees north, as CF writes latitude."""
    return bool(_NORTH.fullmatch(units.strip()))


# --- reading


@contextmanager
def opened_classic(path: Path, variable: str, values: bool) -> Iterator[DatasetReader]:
    """Give a variable of a classic file as a dataset of the raster library; ``values`` False leaves its cells
    empty.

    Raises MossError when the file is damaged, holds no grid, or several of which none is chosen.
    """
    with _reading(path) as file, MemoryFile() as memory:
        # Types and systems that a file states may be none that the raster library knows.
        with in_words(path, "read as NetCDF"):
            _lay_out(memory, path, file, _chosen(path, file, variable), values)
        with memory.open() as made:
            yield made


def _lay_out(memory: MemoryFile, path: Path, file: netcdf_file, name: str, values: bool) -> None:
    """Write a variable into memory as the raster library has it."""
    held = file.variables[name]
    rows, cols = held.shape[-2:]
    bands = math.prod(held.shape[:-2])
    check_grid(rows * cols * bands, str(path), "Write a part of it to a file of its own.")
    flags = _flags(held)
    kind = np.dtype(np.uint8) if flags else np.dtype(held.data.dtype).newbyteorder("=")
    size = {"height": rows, "width": cols, "count": bands, "dtype": kind.name}
    with memory.open(driver="GTiff", sparse_ok=True, **size, **_profile(path, file, name)) as made:
        up = held.dimensions[-2]
        made.update_tags(**{f"{up}#units": _text(getattr(file.variables[up], "units", ""))})
        made.units = (_text(getattr(held, "units", "")),) * bands
        made.scales = (_number(held, "scale_factor", 1.0),) * bands
        made.offsets = (_number(held, "add_offset", 0.0),) * bands
        for band in range(bands):
            if values:
                made.write(held.data.reshape(bands, rows, cols)[band].astype(kind), band + 1)
            made.update_tags(band + 1, **_own_tags(held), **flags)


@contextmanager
def _reading(path: Path) -> Iterator[netcdf_file]:
    from scipy.io import netcdf_file  # loaded where it is used: it takes a while

    try:
        file = netcdf_file(str(path), "r", mmap=False, maskandscale=False)
    except MemoryError:
        raise
    except Exception as error:  # its reader raises what it stumbles on: type, index, value, assertion
        raise MossError(
            f"{path} cannot be read as NetCDF: it is cut short or damaged.", "Fetch or copy it again."
        ) from error
    with file:
        yield file


def _chosen(path: Path, file: netcdf_file, variable: str) -> str:
    """The variable that was asked for, or the only one that is a grid."""
    grids = [
        name
        for name, held in file.variables.items()
        if len(held.dimensions) >= 2 and all(d in file.variables for d in held.dimensions[-2:])
    ]
    shown = ", ".join(map(printable, grids))
    if variable:
        if variable not in grids:
            raise AskedWronglyError(f"{path} has no grid '{variable}'.", f"It has {shown or 'none'}.")
        return variable
    if not grids:
        raise MossError(
            f"{path} holds no grid: no variable has two dimensions with coordinates.", "Choose another file."
        )
    if len(grids) > 1:
        raise several(path, grids)
    return str(grids[0])


def several(path: Path, grids: list[str]) -> MossError:
    """The error for a file of several grids of which none was chosen."""
    shown = ", ".join(map(printable, grids))
    return MossError(f"{path} holds several grids: {shown}.", f"Choose one, such as {path.name}#{grids[0]}.")


def _profile(path: Path, file: netcdf_file, name: str) -> dict[str, Any]:
    """Place, system and no-data value of a variable."""
    held = file.variables[name]
    up, across = (file.variables[d] for d in held.dimensions[-2:])
    (y0, dy), (x0, dx) = _evenly(path, up), _evenly(path, across)
    profile: dict[str, Any] = {"transform": Affine(dx, 0.0, x0 - dx / 2.0, 0.0, dy, y0 - dy / 2.0)}
    system = _system(file, held)
    if system:
        profile["crs"] = system
    for key in ("_FillValue", "missing_value"):
        if hasattr(held, key):
            profile["nodata"] = _number(held, key, np.nan)
            break
    return profile


def _evenly(path: Path, coordinate: Any) -> tuple[float, float]:
    """First value and spacing of a coordinate."""
    values = np.asarray(coordinate.data, np.float64).ravel()
    if values.size < 2 or not np.isfinite(values).all():
        raise MossError(f"{path} does not say where its cells lie.", "Fetch it again.")
    step = float((values[-1] - values[0]) / (values.size - 1))
    stray = np.abs(values - (values[0] + step * np.arange(values.size))).max()
    if step == 0.0 or stray > _UNEVEN * abs(step):
        raise MossError(
            f"The cells of {path} are not evenly spaced, and a surface has cells of one size.",
            "Resample it before it is read here.",
        )
    return float(values[0]), step


def _system(file: netcdf_file, held: Any) -> str | None:
    """The reference system that a variable's grid mapping states, as WKT."""
    mapping = file.variables.get(_text(getattr(held, "grid_mapping", "")).split(":")[0])
    if mapping is None:
        return None
    from pyproj import CRS
    from pyproj.exceptions import CRSError

    said = {k: _plain(v) for k, v in vars(mapping).get("_attributes", {}).items()}
    for key in ("crs_wkt", "spatial_ref"):
        if said.get(key):
            return str(said[key])
    try:
        return str(CRS.from_cf(said).to_wkt())
    except (CRSError, KeyError, ValueError, TypeError):
        return None


def _own_tags(held: Any) -> dict[str, str]:
    said = {k: _text(v) for k, v in vars(held).get("_attributes", {}).items()}
    return {k.upper(): v for k, v in said.items() if k.startswith(_OWN)}


def _flags(held: Any) -> dict[str, str]:
    """Names, bounds and colours of classes, as class maps have them, of a variable whose codes are flags;
    empty for any other, and for codes that a class map has no room for.
    """
    codes = np.atleast_1d(np.asarray(getattr(held, "flag_values", ())))
    meanings = _text(getattr(held, "flag_meanings", "")).split()
    data = np.asarray(held.data)
    if codes.dtype.kind not in "iu" or data.dtype.kind not in "iu" or not codes.size or not data.size:
        return {}
    if (
        len(meanings) != codes.size
        or data.min() < 0
        or max(data.max(), codes.max()) > NO_CLASS
        or codes.min() < 0
    ):
        return {}
    named = {f"CLASS_{c}": m.replace("_", " ") for c, m in zip(codes.tolist(), meanings, strict=True)}
    return named | {k.removeprefix(_OWN.upper()): v for k, v in _own_tags(held).items()}


def _plain(value: Any) -> Any:
    if isinstance(value, bytes):
        return value.decode("utf-8", "replace")
    array = np.asarray(value)
    return array.item() if array.size == 1 else array.tolist()


def _text(value: Any) -> str:
    return str(_plain(value)) if isinstance(value, bytes | str) else ""


def _number(held: Any, key: str, usual: float) -> float:
    value = np.asarray(getattr(held, key, usual))
    return float(value.ravel()[0]) if value.size and value.dtype.kind in "iuf" else usual


# --- writing


def write(
    path: Path,
    surface: Surface,
    name: str,
    units: str,
    no_data: float,
    about: dict[str, str],
    progress: Progress | None = None,
    lineage: str = "",
) -> None:
    """Write a surface as NetCDF: coordinates at the middles of the cells, the system as a grid mapping."""
    from scipy.io import netcdf_file  # loaded where it is used: it takes a while

    frame, kind = surface.frame, surface.values.dtype
    with netcdf_file(str(path), "w", version=2) as file:
        held = _begun(file, frame, name, lineage, _variable(surface), kind.newbyteorder(">"))
        held.units = units.encode()
        held._FillValue = kind.type(no_data)
        if surface.quantity == "elevation":
            held.standard_name = b"surface_altitude"
        for key, value in about.items():
            setattr(held, key, value.encode())
        for first, last in (progress or silent()).blocks(frame.rows, 512, f"Writing {path.name}"):
            block = surface.values[first:last]
            held[first:last] = np.where(np.isnan(block), kind.type(no_data), block)


def write_classes(
    path: Path, classes: ClassMap, name: str, progress: Progress | None = None, lineage: str = ""
) -> None:
    """Write a class map as NetCDF: codes with their meanings as flags (CF 1.11, section 3.5); whole names,
    bounds and colours in attributes of our own.
    """
    from scipy.io import netcdf_file  # loaded where it is used: it takes a while

    frame = classes.frame
    with netcdf_file(str(path), "w", version=2) as file:
        held = _begun(file, frame, name, lineage, "classes", np.dtype(">i2"))
        held._FillValue = np.int16(NO_CLASS)
        entries = classes.classes
        if entries:
            held.flag_values = np.array([c.code for c in entries], ">i2")
            held.flag_meanings = " ".join(_meaning(c.name) for c in entries).encode()
        for c in entries:
            for word, text in (("class", c.name), ("range", c.text), ("color", c.color)):
                setattr(held, f"{_OWN}{word}_{c.code}", printable(text).encode())
        for first, last in (progress or silent()).blocks(frame.rows, 512, f"Writing {path.name}"):
            held[first:last] = classes.codes[first:last]


def _meaning(name: str) -> str:
    """A name as one word of letters, digits and underscores."""
    return re.sub(r"[^\w.+@-]+", "_", name).strip("_") or "class"


def _begun(file: netcdf_file, frame: Frame, name: str, lineage: str, variable: str, kind: np.dtype) -> Any:
    """A file with its conventions, places and lineage, and the variable that its values go to."""
    file.Conventions = b"CF-1.11"
    file.title = printable(name).encode()
    file.source = f"Moss Step {__version__}".encode()
    if lineage:
        file.history = printable(lineage).encode()
    _write_places(file, frame)
    held = file.createVariable(variable, kind, ("y", "x"))
    held.long_name = printable(name).encode()
    if frame.crs is not None:
        held.grid_mapping = b"crs"
    return held


def _write_places(file: netcdf_file, frame: Frame) -> None:
    """Coordinates of the cells' middles, and the system that they are in."""
    file.createDimension("y", frame.rows)
    file.createDimension("x", frame.cols)
    system = None if frame.crs is None else reference_system(frame.crs)
    degrees = system is not None and system.is_geographic
    unit = "1" if system is None else str(system.axis_info[0].unit_name)
    unit = {"metre": "m", "US survey foot": "US_survey_foot"}.get(unit, unit)
    middles = {
        "y": frame.y0 - (np.arange(frame.rows) + 0.5) * frame.dy,
        "x": frame.x0 + (np.arange(frame.cols) + 0.5) * frame.dx,
    }
    words = {
        "y": ("latitude", "degrees_north", "projection_y_coordinate"),
        "x": ("longitude", "degrees_east", "projection_x_coordinate"),
    }
    for axis, values in middles.items():
        held = file.createVariable(axis, ">f8", (axis,))
        held[:] = values
        geographic, degree, projected = words[axis]
        held.axis = axis.upper().encode()
        held.units = (degree if degrees else unit).encode()
        if system is not None:
            held.standard_name = (geographic if degrees else projected).encode()
    if system is not None:
        mapping = file.createVariable("crs", ">i4", ())
        mapping.data = np.zeros((), ">i4")
        for key, value in system.to_cf().items():
            if value is not None and not isinstance(value, dict | list | tuple):
                setattr(mapping, key, value.encode() if isinstance(value, str) else np.float64(value))


def _variable(surface: Surface) -> str:
    name = re.sub("[^a-z0-9_]+", "_", surface.quantity.lower()).strip("_")
    return name if name[:1].isalpha() and name not in ("x", "y", "crs") else "surface"
