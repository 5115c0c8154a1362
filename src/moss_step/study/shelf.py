"""Results on disk, so that a study that is opened again need not be run again, and memory can be let go.

A file holds one result under its key: a line that names the kind of file, the length of a header, the header as JSON, and arrays one after
another as the header lists them. Each is written whole or not at all, and read back only when its size and checksum are those of the header.
Nothing in it is ever run.
"""

from __future__ import annotations

import itertools
import json
import logging
import os
import shutil
import struct
import zlib
from collections.abc import Callable, Mapping
from contextlib import suppress
from dataclasses import asdict
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np
import shapely
from platformdirs import user_cache_path
from shapely.errors import ShapelyError

from moss_step.formats.whole import sweep, whole_file
from moss_step.model.class_map import ClassEntry, ClassMap
from moss_step.model.errors import MossError
from moss_step.model.findings import Finding
from moss_step.model.frame import Frame
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.table import Table
from moss_step.model.units import Unit
from moss_step.steps.declare import Outcome, Value

_MARK = b"Moss Step result 1\n"
_ENDING = ".result"
MOST_BYTES, MOST_OF_DISK = 20_000_000_000, 0.2
"""Bytes that all results on disk may take, and the part of the disk that is free or taken by them already."""
_DAMAGE = (OSError, ValueError, LookupError, TypeError, ArithmeticError, MemoryError, RecursionError, struct.error, MossError, ShapelyError)
"""Whatever a damaged file may bring up: the result is worked out again."""
_log = logging.getLogger(__name__)


class NotKeptError(Exception):
    """A result that this form cannot hold."""


def shelf_folder() -> Path:
    """Where results are kept on this machine."""
    return user_cache_path("moss-step") / "results"


class Shelf:
    """A folder of results by their keys, the oldest of which go when it is full."""

    def __init__(self, folder: Path | None = None, most_bytes: int = MOST_BYTES) -> None:
        self.folder, self._most_bytes = folder or shelf_folder(), most_bytes
        if self.folder.is_dir():
            sweep(self.folder)

    def size_of(self, key: str | None) -> int | None:
        """Bytes of a result; None when it is not here. Touches the disk: not for the window's own thread."""
        if key is None:
            return None
        with suppress(OSError):
            return self._file(key).stat().st_size
        return None

    def write(self, key: str, outcome: Outcome) -> bool:
        """Keep a result; says whether it is kept. Nothing is told where that is not possible: it is worked out again."""
        try:
            self.folder.mkdir(parents=True, exist_ok=True)
            header, arrays = as_parts(outcome)
            with whole_file(self._file(key)) as temporary:
                _write(temporary, header, arrays)
            self._trim(key)
        except (NotKeptError, MossError, OSError) as error:
            _log.info("a result is not kept on disk: %s", error)
            return False
        return True

    def read(self, key: str) -> Outcome | None:
        """Give a result; None when it is not here, or was damaged: it is removed then."""
        file = self._file(key)
        try:
            outcome = _read(file)
            os.utime(file)
        except FileNotFoundError:
            return None
        except _DAMAGE as error:
            _log.info("a result on disk could not be read: %s", error)
            with suppress(OSError):
                file.unlink()
            return None
        return outcome

    def clear(self) -> tuple[int, int]:
        """Remove all results; gives how many there were, and their bytes."""
        files = self._files()
        for _, _, file in files:
            with suppress(OSError):
                file.unlink()
        return len(files), sum(size for _, size, _ in files)

    def measured(self) -> tuple[int, int]:
        """How many results there are, and their bytes."""
        files = self._files()
        return len(files), sum(size for _, size, _ in files)

    def _file(self, key: str) -> Path:
        return self.folder / f"{key}{_ENDING}"

    def _files(self) -> list[tuple[float, int, Path]]:
        found = []
        for file in self.folder.glob(f"*{_ENDING}"):
            with suppress(OSError):
                about = file.stat()
                found.append((about.st_mtime, about.st_size, file))
        return sorted(found)

    def _trim(self, newest: str) -> None:
        files = self._files()
        size = sum(s for _, s, _ in files)
        most = min(self._most_bytes, int(MOST_OF_DISK * (shutil.disk_usage(self.folder).free + size)))
        for _, own, file in files:
            if size <= most:
                return
            if file.stem != newest or own > most:
                with suppress(OSError):
                    file.unlink()
                size -= own


class _Kind(NamedTuple):
    """How values of one type become plain data and arrays, and how they are made of them again."""

    type: type
    parts: Callable[[Any], tuple[dict[str, Any], list[np.ndarray]]]
    made: Callable[[Mapping[str, Any], list[np.ndarray]], Value]


def _surface_parts(value: Surface) -> tuple[dict[str, Any], list[np.ndarray]]:
    return {"frame": asdict(value.frame), "unit": asdict(value.unit), "quantity": value.quantity}, [value.values]


def _surface(about: Mapping[str, Any], arrays: list[np.ndarray]) -> Surface:
    return Surface(arrays[0], Frame(**about["frame"]), Unit(**about["unit"]), about["quantity"])


def _class_parts(value: ClassMap) -> tuple[dict[str, Any], list[np.ndarray]]:
    return {"frame": asdict(value.frame), "classes": [asdict(c) for c in value.classes]}, [value.codes]


def _classes(about: Mapping[str, Any], arrays: list[np.ndarray]) -> ClassMap:
    return ClassMap(arrays[0], Frame(**about["frame"]), tuple(ClassEntry(**c) for c in about["classes"]))


def _shape_parts(value: Shapes) -> tuple[dict[str, Any], list[np.ndarray]]:
    texts = shapely.to_wkb(value.geometry, include_srid=False)
    ends = np.cumsum([len(t) for t in texts], dtype=np.int64)
    about, arrays = _column_parts(value.columns)
    return {**about, "crs": value.crs, "symbols": dict(value.symbols)}, [np.frombuffer(b"".join(texts), np.uint8), ends, *arrays]


def _shapes(about: Mapping[str, Any], arrays: list[np.ndarray]) -> Shapes:
    whole, ends = arrays[0].tobytes(), arrays[1].tolist()
    texts = [whole[a:b] for a, b in itertools.pairwise([0, *ends])]
    geometry = np.asarray(shapely.from_wkb(np.array(texts, object))) if texts else np.empty(0, object)
    return Shapes(geometry, _columns(about, arrays[2:]), about["crs"], about["symbols"])


def _table_parts(value: Table) -> tuple[dict[str, Any], list[np.ndarray]]:
    about, arrays = _column_parts(value.columns)
    return {**about, "units": {n: asdict(u) for n, u in value.units.items()}, "x": value.x, "y": value.y}, arrays


def _table(about: Mapping[str, Any], arrays: list[np.ndarray]) -> Table:
    return Table(_columns(about, arrays), {n: Unit(**u) for n, u in about["units"].items()}, about["x"], about["y"])


_KINDS = {
    "surface": _Kind(Surface, _surface_parts, _surface), "classes": _Kind(ClassMap, _class_parts, _classes),
    "shapes": _Kind(Shapes, _shape_parts, _shapes), "table": _Kind(Table, _table_parts, _table),
}  # fmt: skip


def _column_parts(columns: Mapping[str, np.ndarray]) -> tuple[dict[str, Any], list[np.ndarray]]:
    """Columns of text and mixed ones as lists, the others as arrays."""
    lists, arrays, order = {}, [], []
    for name, values in columns.items():
        if values.dtype.kind in "biuf":
            order.append(name)
            arrays.append(values)
        elif values.dtype.kind in "OU":
            lists[name] = values.tolist()
        else:
            raise NotKeptError(f"column {name} of {values.dtype}")
    return {"names": list(columns), "lists": lists, "arrays": order}, arrays


def _columns(about: Mapping[str, Any], arrays: list[np.ndarray]) -> dict[str, np.ndarray]:
    found = dict(zip(about["arrays"], arrays, strict=True))
    for name, values in about["lists"].items():
        found[name] = np.empty(len(values), object)
        found[name][:] = values
    return {name: found[name] for name in about["names"]}


def as_parts(outcome: Outcome) -> tuple[dict[str, Any], list[np.ndarray]]:
    """A result as plain data, and the arrays beside it.

    Raises NotKeptError for what plain data cannot hold.
    """
    name, kind = next((n, k) for n, k in _KINDS.items() if isinstance(outcome.value, k.type))
    about, arrays = kind.parts(outcome.value)
    header = {"kind": name, "about": about, "figure": outcome.figure, "warnings": list(outcome.warnings),
              "findings": [asdict(f) for f in outcome.findings]}  # fmt: skip
    return header, [np.ascontiguousarray(a) for a in arrays]


def from_parts(header: Mapping[str, Any], arrays: list[np.ndarray]) -> Outcome:
    """Make a result of what ``as_parts`` gave."""
    value = _KINDS[header["kind"]].made(header["about"], arrays)
    findings = tuple(Finding(f["name"], f["value"], Unit(**f["unit"]), f["of"]) for f in header["findings"])
    return Outcome(value, header["figure"], findings, tuple(header["warnings"]))


def _write(path: Path, header: dict[str, Any], arrays: list[np.ndarray]) -> None:
    listed = [{"dtype": a.dtype.str, "shape": a.shape, "crc": _checksum(a)} for a in arrays]
    try:
        text = json.dumps({**header, "listed": listed}, default=_plain).encode("utf-8")
    except (TypeError, ValueError) as error:
        raise NotKeptError(str(error)) from error
    with path.open("wb") as file:
        file.write(_MARK + struct.pack("<QI", len(text), zlib.crc32(text)) + text)
        for array in arrays:
            array.tofile(file)


def _checksum(array: np.ndarray) -> int:
    return zlib.crc32(array.reshape(-1).view(np.uint8).data)


def _plain(value: object) -> Any:
    if isinstance(value, np.generic):
        return value.item()
    raise TypeError(f"{type(value).__name__} is no plain data")


def _read(path: Path) -> Outcome:
    with path.open("rb") as file:
        if file.read(len(_MARK)) != _MARK:
            raise ValueError("another kind of file")
        length, crc = struct.unpack("<QI", file.read(12))
        text = file.read(min(length, path.stat().st_size))
        if zlib.crc32(text) != crc:
            raise ValueError("a damaged header")
        header = json.loads(text)
        arrays = []
        for about in header["listed"]:
            dtype = np.dtype(about["dtype"])
            if dtype.kind not in "biuf":
                raise ValueError(f"an array of {dtype}")
            array = np.fromfile(file, dtype, int(np.prod(about["shape"], dtype=np.int64))).reshape(about["shape"])
            if _checksum(array) != about["crc"]:
                raise ValueError("a damaged array")
            arrays.append(array)
    return from_parts(header, arrays)
