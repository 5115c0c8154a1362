"""Results on disk, so that a study that is opened again need not be run again, and memory can be let go.

A file holds one result under its key: a line that names the kind of file, the length of a header, the header
as JSON, and arrays one after another as the header lists them. Each is written whole or not at all, and read
back only when its size and checksum are those of the header. Nothing in it is ever run.
"""

from __future__ import annotations

import hashlib
import json
import logging
import os
import shutil
import struct
import zlib
from collections.abc import Mapping
from contextlib import suppress
from dataclasses import asdict
from functools import cache
from pathlib import Path
from typing import Any

import numpy as np
from platformdirs import user_cache_path
from shapely.errors import ShapelyError

import moss_step
from moss_step.formats.whole import sweep, whole_file
from moss_step.kinds.kind import NotPlainError
from moss_step.kinds.registry import kind_named, kind_of
from moss_step.model import mapped
from moss_step.model.errors import MossError
from moss_step.model.findings import Finding
from moss_step.model.outcome import Outcome
from moss_step.model.units import Unit

_MARK = b"Moss Step result 1\n"
_ENDING = ".result"
MOST_BYTES, MOST_OF_DISK = 20_000_000_000, 0.2
"""Bytes that all results on disk may take, and the part of the disk that is free or taken by them already."""
_DAMAGE = (
    OSError,
    ValueError,
    LookupError,
    TypeError,
    ArithmeticError,
    MemoryError,
    RecursionError,
    struct.error,
    MossError,
    ShapelyError,
)
"""Whatever a damaged file may bring up: the result is worked out again."""
_log = logging.getLogger(__name__)


def shelf_folder() -> Path:
    """Where results are kept on this machine."""
    return user_cache_path("moss-step") / "results"


@cache
def program_digest() -> str:
    """Digest of all that results are worked out by: one of another program may differ, whatever its version
    says.
    """
    package, whole = Path(moss_step.__file__).parent, hashlib.blake2b(digest_size=16)
    for part in ("model", "science", "formats", "kinds", "steps"):
        for file in sorted((package / part).rglob("*.py")):
            whole.update(file.read_bytes())
    return whole.hexdigest()


class Shelf:
    """A folder of results by their keys, the oldest of which go when it is full."""

    def __init__(self, folder: Path | None = None, most_bytes: int = MOST_BYTES) -> None:
        self.folder, self._most_bytes = folder or shelf_folder(), most_bytes
        self._unreadable: set[str] = set()
        if self.folder.is_dir():
            sweep(self.folder)

    def size_of(self, key: str | None) -> int | None:
        """Bytes of a result; None when it is not here. Touches the disk: not for the window's own thread."""
        if key is None or key in self._unreadable:
            return None
        with suppress(OSError):
            return self._file(key).stat().st_size
        return None

    def write(self, key: str, outcome: Outcome) -> bool:
        """Keep a result; says whether it is kept. Nothing is told where that is not possible: it is worked
        out again.
        """
        try:
            self.folder.mkdir(parents=True, exist_ok=True)
            header, arrays = as_parts(outcome)
            with whole_file(self._file(key)) as temporary:
                _write(temporary, header, arrays)
            self._unreadable.discard(key)
            self._trim(key)
        except (NotPlainError, MossError, OSError) as error:
            _log.info("a result is not kept on disk: %s", error)
            return False
        return True

    def read(self, key: str) -> Outcome | None:
        """Give a result; None when it is not here, or was damaged: it is removed then."""
        file = self._file(key)
        try:
            outcome = _read(file)
            os.utime(file)
        except _DAMAGE as error:
            _log.info("a result on disk could not be read: %s", error)
            self._unreadable.add(key)  # it may not go: the folder may be one that cannot be written
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
        result = []
        for file in self.folder.glob(f"*{_ENDING}"):
            with suppress(OSError):
                about = file.stat()
                result.append((about.st_mtime, about.st_size, file))
        return sorted(result)

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


def as_parts(outcome: Outcome) -> tuple[dict[str, Any], list[np.ndarray]]:
    """A result as plain data, and the arrays beside it.

    Raises NotPlainError for what plain data cannot hold.
    """
    kind = kind_of(outcome.value)
    about, arrays = kind.parts(outcome.value)
    if sum(a.nbytes for a in arrays if mapped.map_of(a) is not None) > mapped.LARGE:
        raise NotPlainError("it is too large for memory, and stands in a file already")
    header = {"kind": kind.name, "about": about, "figure": outcome.figure, "warnings": list(outcome.warnings),
              "findings": [asdict(f) for f in outcome.findings], "program": program_digest()}  # fmt: skip
    return header, [np.ascontiguousarray(a) for a in arrays]


def from_parts(header: Mapping[str, Any], arrays: list[np.ndarray]) -> Outcome:
    """Make a result of what ``as_parts`` gave."""
    value = kind_named(header["kind"]).restored(header["about"], arrays)
    findings = tuple(Finding(f["name"], f["value"], Unit(**f["unit"]), f["of"]) for f in header["findings"])
    return Outcome(value, header["figure"], findings, tuple(header["warnings"]))


def _write(path: Path, header: dict[str, Any], arrays: list[np.ndarray]) -> None:
    listed = [{"dtype": a.dtype.str, "shape": a.shape, "crc": _checksum(a)} for a in arrays]
    try:
        text = json.dumps({**header, "listed": listed}, default=_plain).encode("utf-8")
    except (TypeError, ValueError) as error:
        raise NotPlainError(str(error)) from error
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
        if header["program"] != program_digest():
            raise ValueError("a result of another program")
        arrays = []
        for about in header["listed"]:
            dtype = np.dtype(about["dtype"])
            if dtype.kind not in "biuf":
                raise ValueError(f"an array of {dtype}")
            array = np.fromfile(file, dtype, int(np.prod(about["shape"], dtype=np.int64))).reshape(
                about["shape"]
            )
            if _checksum(array) != about["crc"]:
                raise ValueError("a damaged array")
            arrays.append(array)
    return from_parts(header, arrays)
