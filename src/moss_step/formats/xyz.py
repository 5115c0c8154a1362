"""Points as plain text: columns of numbers with or without a line of names."""

from __future__ import annotations

import re
import warnings
from pathlib import Path
from typing import Any

import numpy as np

from moss_step.formats.table import is_remark
from moss_step.formats.whole import check_readable
from moss_step.model.errors import MossError
from moss_step.model.memory import check_memory

ENDINGS = (".xyz", ".txt", ".csv")
_PLACES = {
    "x": ("x", "easting", "east", "lon", "longitude"),
    "y": ("y", "northing", "north", "lat", "latitude"),
    "z": ("z", "height", "elevation", "h", "altitude"),
}
_OWN = {
    "class": "classification", "code": "classification", "i": "intensity", "r": "red", "g": "green",
    "b": "blue", "return": "return_number", "returns": "number_of_returns",
}  # fmt: skip
"""Names that clouds have of their own, by what tables call them."""
_WHOLE: dict[str, type[np.unsignedinteger[Any]]] = {
    "classification": np.uint8, "intensity": np.uint16, "return_number": np.uint8,
    "number_of_returns": np.uint8, "red": np.uint16, "green": np.uint16, "blue": np.uint16,
}  # fmt: skip
_BYTES_A_CHARACTER, _HEAD = 4, 65_536
_NUMBER = re.compile(r"[+-]?(\d+([.,]\d*)?|[.,]\d+)([eE][+-]?\d+)?|[nN][aA][nN]")


def read_points(path: Path) -> dict[str, np.ndarray]:
    """Columns ``x``, ``y`` and ``z`` (float64) and the others by their names.

    Separators are commas, semicolons, tabs or blanks; a line of names may stand first, and lines that begin
    with ``#`` or ``//`` count for nothing. Without names the first three columns are x, y and z.

    Raises MossError when there are no three columns of numbers, and names the line that does not fit.
    """
    check_readable(path)
    check_memory(path.stat().st_size * _BYTES_A_CHARACTER, f"Reading {path.name}", "Read a part of it.")
    with path.open("rb") as file:
        head = file.read(_HEAD)
    if b"\0" in head:
        raise MossError(f"{path} is no text.", "Open it as the file that it is.")
    lines = head.decode("utf-8-sig", "replace").splitlines()
    first = next((k for k, line in enumerate(lines) if line.strip() and not is_remark(line)), None)
    if first is None:
        raise MossError(f"{path} has no line of numbers.", "Choose another file.")
    mark = _separator(lines[first])
    words = _split(lines[first], mark)
    named = not all(_NUMBER.fullmatch(w) for w in words)
    values = _numbers(path, mark, first + named, len(words))
    return _named(path, [w.lower() for w in words] if named else None, values)


def _separator(line: str) -> str | None:
    """What stands between columns; None for blanks."""
    return next(
        (m for m in (";", "\t") if m in line),
        "," if "," in line and not re.search(r"\d,\d+\s", line) else None,
    )


def _split(line: str, mark: str | None) -> list[str]:
    return [w.strip().strip('"') for w in (line.split(mark) if mark else line.split())]


def _numbers(path: Path, mark: str | None, skipped: int, count: int) -> np.ndarray:
    """All numbers (n, columns); a comma is a decimal point where it separates nothing."""
    try:
        with path.open(encoding="utf-8-sig", errors="replace") as file, warnings.catch_warnings():
            warnings.simplefilter("ignore")  # a table without rows is said below
            for _ in range(skipped):
                file.readline()
            lines = (_whole_row(line if mark == "," else line.replace(",", "."), mark) for line in file)
            values = np.loadtxt(
                lines, np.float64, comments=("#", "//"), delimiter=mark, ndmin=2, encoding="utf-8"
            )
    except ValueError as error:
        at = re.search(r"row (\d+)", str(error))
        where = f" near line {int(at[1]) + skipped + 1}" if at else ""
        raise MossError(
            f"{path} is no table of numbers{where}.", "Mend the line, or leave it out."
        ) from error
    if values.shape[0] == 0 or values.shape[1] != count or count < len(_PLACES):
        raise MossError(
            f"{path} has no three columns of numbers.", "Give x, y and z of a point in each line."
        )
    return np.asarray(values)


def _whole_row(line: str, mark: str | None) -> str:
    """A line whose empty fields say that they hold no number."""
    bare = line.rstrip("\r\n")
    if mark is None or not bare.strip():
        return line
    if not (mark * 2 in bare or bare.startswith(mark) or bare.endswith(mark)):
        return line
    return mark.join(field if field.strip() else "nan" for field in bare.split(mark))


def _named(path: Path, names: list[str] | None, values: np.ndarray) -> dict[str, np.ndarray]:
    count = values.shape[1]
    if names is None:
        names = [*_PLACES, *(f"value_{k}" for k in range(1, count - 2))]
    result: dict[str, np.ndarray] = {}
    taken = set()
    for axis, meant in _PLACES.items():
        at = next((k for word in meant for k, n in enumerate(names) if n == word), None)
        if at is None:
            raise MossError(f"{path} has no column {axis}.", f"Its columns: {', '.join(names)}.")
        result[axis] = np.ascontiguousarray(values[:, at])
        taken.add(at)
    for k, name in enumerate(names):
        if k not in taken:
            own = _OWN.get(name, re.sub(r"\W+", "_", name).strip("_") or f"column_{k + 1}")
            result[own] = _typed(own, values[:, k])
    return result


def _typed(name: str, values: np.ndarray) -> np.ndarray:
    """Codes and counts as the whole numbers that they are; others stay."""
    kind = _WHOLE.get(name)
    if kind is not None and np.isfinite(values).all() and (values == np.rint(values)).all():
        about = np.iinfo(kind)
        if values.min() >= about.min and values.max() <= about.max:
            return values.astype(kind)
    return np.ascontiguousarray(values)
