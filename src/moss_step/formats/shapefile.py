"""Shapes as a Shapefile (ESRI technical description, 1998), with what it cannot say."""

from __future__ import annotations

import glob
import warnings
from pathlib import Path
from typing import Any

import numpy as np
import shapely

from moss_step.formats.source import side_files
from moss_step.formats.whole import half_folder, in_words, printable
from moss_step.model.errors import MossError
from moss_step.model.shapes import Shapes

ENDING = ".shp"
_LONGEST, _TEXT, _MOST = 10, 254, 2_000_000_000
"""Bytes of a column's name, of a text, and of a file."""
_BESIDE = (".shx", ".dbf", ".prj", ".cpg", ".qix", ".sbn", ".sbx", ".idm", ".ind", ".aux")
"""Endings of what belongs to one: its parts, and indices that speak of its older content."""


def short_names(names: list[str]) -> dict[str, str]:
    """Names of columns in ten bytes, each once."""
    result: dict[str, str] = {}
    for name in names:
        plain = name.encode("ascii", "replace").decode().replace("?", "_")
        short, k = plain[:_LONGEST], 1
        while short.lower() in {v.lower() for v in result.values()}:
            k += 1
            short = f"{plain[: _LONGEST - len(str(k)) - 1]}_{k}"
        result[name] = short
    return result


def losses(shapes: Shapes) -> tuple[str, ...]:
    """What a Shapefile cannot say of shapes."""
    said = []
    cut = {n: s for n, s in short_names(list(shapes.columns)).items() if n != s}
    if cut:
        shown = ", ".join(f"{n} as {s}" for n, s in list(cut.items())[:4])
        said.append(f"A Shapefile has names of ten letters: {shown}{' and more' if len(cut) > 4 else ''}.")
    texts = [n for n, v in shapes.columns.items() if v.dtype.kind in "OU"]
    if any(len(str(t).encode()) > _TEXT for n in texts for t in shapes.columns[n]):
        said.append("A Shapefile cuts texts after 254 bytes.")
    if any(v.dtype.kind == "b" for v in shapes.columns.values()):
        said.append("A Shapefile has no yes and no: they are 1 and 0.")
    said.append("A Shapefile holds no units, and nothing for a missing number but 0.")
    return tuple(said)


def write_shapefile(path: Path, shapes: Shapes) -> None:
    """Write shapes as a Shapefile, all of its files or none.

    Raises MossError when it cannot be written, or is larger than the format allows.
    """
    from moss_step.formats.vector import vector_library

    pyogrio = vector_library()
    if not path.parent.is_dir():
        raise MossError(f"The folder {path.parent} does not exist.", "Make it, or choose another.")
    names = short_names(list(shapes.columns))
    columns = [_stored(v) for v in shapes.columns.values()]
    kinds = {g.geom_type.removeprefix("Multi") for g in shapes.geometry}
    if len(kinds) > 1:
        raise MossError("A Shapefile holds one kind of shapes.", "Use the ending .gpkg.")
    options: dict[str, Any] = {"driver": "ESRI Shapefile", "crs": shapes.crs, "encoding": "UTF-8"}
    kind = kinds.pop() if kinds else "Polygon"
    many = any(g.geom_type.startswith("Multi") for g in shapes.geometry)
    options["geometry_type"] = f"Multi{kind}" if many and kind == "Point" else kind
    free = "The disk may be full. Free some space, or choose another."
    path = path.resolve() if path.is_symlink() else path
    with in_words(path, "written", free), half_folder(path) as work:
        part = work / "new" / f"shapes{ENDING}"
        part.parent.mkdir()
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            pyogrio.set_gdal_config_options({"DBF_DATE_LAST_UPDATE": "2026-01-01"})
            held = shapely.to_wkb(shapes.geometry)
            pyogrio.raw.write(part, held, columns, list(names.values()), **options)
        if max(f.stat().st_size for f in part.parent.iterdir()) > _MOST:
            raise MossError("A Shapefile is 2 GB at the most.", "Use the ending .gpkg.")
        if pyogrio.read_info(part)["features"] != len(shapes):
            raise MossError(f"{printable(path)} could not be written whole.", "The disk may be full.")
        _put_in_place(part, path, work / "old")


def _put_in_place(part: Path, path: Path, aside: Path) -> None:
    """Move the old files aside and the new ones to their place, the one that is opened first and last: after
    a kill there is none rather than a mixed one. Where that fails all are moved back.
    """
    aside.mkdir()
    beside = [f for f in path.parent.glob(f"{glob.escape(path.stem)}.*") if f.suffix.lower() in _BESIDE]
    old = [f for f in (path, *beside, *side_files(path)) if f.is_file()]
    new = sorted(part.parent.iterdir(), key=lambda f: f.suffix == ENDING)
    moves = [(f, aside / f.name) for f in old]
    moves += [(f, path if f == part else path.with_suffix(f.suffix)) for f in new]
    done: list[tuple[Path, Path]] = []
    try:
        for source, target in moves:
            source.replace(target)
            done.append((source, target))
    except OSError:
        for source, target in reversed(done):
            target.replace(source)
        raise


def _stored(values: np.ndarray) -> np.ndarray:
    """A column as the format holds it."""
    if values.dtype.kind == "b":
        return values.astype(np.int32)
    if values.dtype.kind == "f":
        return np.nan_to_num(values.astype(np.float64), nan=0.0)
    return values
