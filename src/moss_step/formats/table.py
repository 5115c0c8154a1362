"""Tables of measured places as text: what parts the columns, how numbers are written, what they hold."""

from __future__ import annotations

import csv
import re
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from moss_step.formats.whole import check_readable, in_words
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.memory import check_memory
from moss_step.model.nearest import meant

ENDINGS = (".csv", ".tsv")
DELIMITERS = {"comma": ",", "semicolon": ";", "tab": "\t", "blank": " ", "bar": "|"}
X_NAMES = ("x", "easting", "east", "e", "longitude", "lon", "long", "lng")
Y_NAMES = ("y", "northing", "north", "n", "latitude", "lat")
DEGREE_NAMES = ("longitude", "lon", "long", "lng", "latitude", "lat")
VALUE_NAMES = ("depth", "sounding", "z", "height", "elevation", "h", "level", "value")
_HEAD = 65_536
_SHOWN = 12
_BYTES_A_CHARACTER = 12
_POINT = re.compile(r"[+-]?(\d+(\.\d*)?|\.\d+)([eE][+-]?\d+)?")
_COMMA = re.compile(r"[+-]?(\d+(,\d*)?|,\d+)([eE][+-]?\d+)?")
_SEXAGESIMAL = re.compile(
    r"\s*(?P<first>[NSEWnsew])?\s*(?P<sign>[+-])?\s*(?P<deg>\d{1,3})\s*(?:°|d|:|\s)\s*"
    r"(?P<min>\d{1,2}(?:[.,]\d+)?)\s*(?:['′m:]|\s|$)\s*"
    r"(?:(?P<sec>\d{1,2}(?:[.,]\d+)?)\s*(?:[\"″s]|'')?)?\s*(?P<last>[NSEWnsew])?\s*"
)
_BOUND = 60.0
_LONGEST_ANGLE = 40
"""Characters of an angle: longer text takes the pattern ever longer."""


@dataclass(frozen=True)
class TableText:
    """A table as it stands in a file: its rows of text and the number of the line of each, and how it was
    read.
    """

    names: tuple[str, ...]
    rows: list[list[str]]
    lines: np.ndarray
    encoding: str
    delimiter: str
    decimal: str
    header: bool
    ragged: tuple[int, ...] = ()
    """Numbers of lines with another number of fields than the first."""

    @property
    def said(self) -> str:
        """How it was read, in words."""
        marks = {mark: name for name, mark in DELIMITERS.items()}
        first = "names in its first line" if self.header else "no line of names"
        how = f"columns parted by {marks[self.delimiter]}s, decimal {self.decimal}"
        return f"Read as {self.encoding.upper()}, {how}, {first}."

    def column(self, name: str) -> list[str]:
        """The text of a column.

        Raises AskedWronglyError when there is none.
        """
        k = self.index(name)
        return [row[k] for row in self.rows]

    def index(self, name: str) -> int:
        """Place of a column by its name in any case, or by its number from 1.

        Raises AskedWronglyError when there is none.
        """
        lower = [n.lower() for n in self.names]
        if name.lower() in lower:
            return lower.index(name.lower())
        if name.isdigit() and 1 <= int(name) <= len(self.names):
            return int(name) - 1
        raise AskedWronglyError(
            f"The table has no column '{name}'.",
            f"{meant(name, self.names)} It has: {', '.join(self.names)}.",
        )

    def guess(self, wanted: Sequence[str]) -> str | None:
        """The first column whose name is one of some, or begins with one and a mark."""
        lower = {re.split(r"[^a-z0-9]+", n.lower())[0]: n for n in reversed(self.names)}
        exact = {n.lower(): n for n in reversed(self.names)}
        return next((t[w] for t in (exact, lower) for w in wanted if w in t), None)


def read_table(path: Path, delimiter: str = "", decimal: str = "", header: bool | None = None) -> TableText:
    """Read a table; what is not stated is found out from its first lines.

    ``delimiter`` is one of ``DELIMITERS``, ``decimal`` a point or a comma. Raises MossError for what is no
    text, or has no rows of two columns or more.
    """
    check_readable(path)
    check_memory(path.stat().st_size * _BYTES_A_CHARACTER, f"Reading {path.name}", "Read a part of it.")
    with in_words(path, "read as a table"):
        return _parsed(path, path.read_bytes(), delimiter, decimal, header)


def _parsed(path: Path, raw: bytes, delimiter: str, decimal: str, header: bool | None) -> TableText:
    text, encoding = _decoded(path, raw)
    lines = text.splitlines()
    first = next((k for k, line in enumerate(lines) if line.strip() and not is_remark(line)), None)
    if first is None:
        raise MossError(f"{path} has no rows.", "Choose another file.")
    head = [line for line in lines[first : first + 200] if line.strip() and not is_remark(line)]
    mark = DELIMITERS[delimiter] if delimiter else _delimiter(head, decimal)
    fields = [_split(line, mark) for line in head]
    point = decimal or _decimal(fields, mark)
    named = header if header is not None else _has_names(fields, point)
    width = len(fields[0])
    if width < 2:
        raise MossError(f"{path} has one column.", "State what parts its columns, or choose another file.")
    names = (
        tuple(_unique([w or f"column_{k + 1}" for k, w in enumerate(fields[0])]))
        if named
        else tuple(f"column_{k + 1}" for k in range(width))
    )
    rows, numbers, ragged = _rows(lines[first + named :], first + named + 1, mark, width)
    if not rows:
        raise MossError(f"{path} has names of columns and no rows.", "Choose another file.")
    return TableText(names, rows, numbers, encoding, mark, point, named, ragged)


def _decoded(path: Path, raw: bytes) -> tuple[str, str]:
    """The text of a file: UTF-8, UTF-16 with its mark, else Windows-1252.

    Raises MossError for what is no text.
    """
    if raw[:2] in (b"\xff\xfe", b"\xfe\xff"):
        try:
            return raw.decode("utf-16"), "utf-16"
        except UnicodeDecodeError as error:
            raise MossError(f"{path} is no text.", "Choose another file.") from error
    if b"\0" in raw[:_HEAD]:
        raise MossError(f"{path} is no text.", "Open it as the file that it is.")
    for encoding in ("utf-8-sig", "cp1252"):
        try:
            return raw.decode(encoding), encoding.removesuffix("-sig").replace("cp1252", "windows-1252")
        except UnicodeDecodeError:
            continue
    return raw.decode("latin-1"), "latin-1"


def is_remark(line: str) -> bool:
    """Whether a line of a text counts for nothing."""
    return line.lstrip().startswith(("#", "//"))


def _split(line: str, mark: str) -> list[str]:
    if mark == " ":
        return line.split()
    return [w.strip() for w in next(csv.reader([line], delimiter=mark, skipinitialspace=True))]


def _delimiter(head: list[str], decimal: str) -> str:
    """The mark that parts most lines into the same number of fields, two or more; marks that parts of
    numbers may be come last.
    """
    best, found = 0, ","
    for mark in (";", "\t", "|", ",", " "):
        if mark == "," and decimal == ",":
            continue
        counts = Counter(len(_split(line, mark)) for line in head)
        width, often = max(counts.items(), key=lambda c: (c[1], c[0]))
        score = often * 10 + min(width, 9) if width > 1 and often > 0.5 * len(head) else 0
        if mark in ";\t|" and score:
            return mark
        if score > best:
            best, found = score, mark
    return found


def _decimal(fields: list[list[str]], mark: str) -> str:
    """A comma where more fields are numbers that way."""
    if mark == ",":
        return "."
    words = [w for row in fields for w in row]
    commas = sum(bool(_COMMA.fullmatch(w)) and "," in w for w in words)
    points = sum(bool(_POINT.fullmatch(w)) and "." in w for w in words)
    return "," if commas > points else "."


def _has_names(fields: list[list[str]], decimal: str) -> bool:
    """Whether the first line holds names: fewer numbers than the next, or none."""

    def numbers(row: list[str]) -> int:
        return sum(np.isfinite(number(w, decimal)) for w in row)

    first = numbers(fields[0])
    return first == 0 or (len(fields) > 1 and first < numbers(fields[1]))


def _unique(names: list[str]) -> list[str]:
    seen: Counter[str] = Counter()
    result = []
    for name in names:
        seen[name] += 1
        result.append(name if seen[name] == 1 else f"{name}_{seen[name]}")
    return result


def _rows(
    lines: list[str], first: int, mark: str, width: int
) -> tuple[list[list[str]], np.ndarray, tuple[int, ...]]:  # fmt: skip
    rows, numbers, ragged = [], [], []
    for k, line in enumerate(lines):
        if not line.strip() or is_remark(line):
            continue
        row = _split(line, mark) if '"' in line or mark == " " else [w.strip() for w in line.split(mark)]
        if len(row) != width:
            ragged.append(first + k)
            row = (row + [""] * width)[:width]
        rows.append(row)
        numbers.append(first + k)
    return rows, np.array(numbers, np.int64), tuple(ragged)


def number(text: str, decimal: str = ".") -> float:
    """A number as it is written in a table; NaN for anything else."""
    clean = text.strip()
    if decimal == "," and _COMMA.fullmatch(clean):
        return float(clean.replace(",", "."))
    return float(clean) if _POINT.fullmatch(clean) else float("nan")


def numbers(texts: Sequence[str], decimal: str = ".") -> np.ndarray:
    """Numbers of many fields (float64), NaN for what is none."""
    if decimal == ".":
        try:
            return np.array([t or "nan" for t in texts]).astype(np.float64)
        except ValueError:
            pass
    return np.array([number(t, decimal) for t in texts], np.float64)


def angle(text: str, decimal: str = ".") -> float:
    """Degrees of a coordinate written as a number, or in degrees, minutes and seconds with or without its
    quarter of the sky; NaN for anything else.
    """
    plain = number(text, decimal)
    if np.isfinite(plain):
        return plain
    found = _SEXAGESIMAL.fullmatch(text) if len(text) <= _LONGEST_ANGLE else None
    if found is None:
        return float("nan")
    minutes = float(found["min"].replace(",", "."))
    seconds = float((found["sec"] or "0").replace(",", "."))
    if minutes >= _BOUND or seconds >= _BOUND:
        return float("nan")
    value = float(found["deg"]) + minutes / 60.0 + seconds / 3600.0
    quarter = (found["first"] or found["last"] or "").upper()
    return -value if found["sign"] == "-" or quarter in ("S", "W") else value


def angles(texts: Sequence[str], decimal: str = ".") -> np.ndarray:
    """Degrees of many fields (float64), NaN for what is none."""
    plain = numbers(texts, decimal)
    odd = np.flatnonzero(~np.isfinite(plain))
    plain[odd] = [angle(texts[k], decimal) for k in odd.tolist()]
    return plain


def first_rows(table: TableText) -> dict[str, np.ndarray]:
    """The first rows as text, by column, with the number of each line."""
    shown = table.rows[:_SHOWN]
    result: dict[str, np.ndarray] = {"line": table.lines[: len(shown)]}
    for k, name in enumerate(table.names):
        result[name] = np.array([row[k] for row in shown], object)
    return result
