"""Class rules as CSV: columns from, to, class, name, color; an empty bound is an open end."""

from __future__ import annotations

import csv
import io
from pathlib import Path

from moss_step.formats.cells import as_meant, harmless
from moss_step.formats.whole import in_words, read_text, write_text
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.rules import Closed, Rule, RuleSet, exact_text
from moss_step.model.typed import as_whole

COLUMNS = ("from", "to", "class", "name", "color")
_SPARE_COLOR = "#9A9A8C"


def read_rules(path: Path, closed: Closed = "upper") -> RuleSet:
    """Read class rules; ``from`` greater than ``to`` wraps through north.

    Raises MossError that names the line and the column of what cannot be used.
    """
    text = read_text(path)
    if "\x00" in text:
        raise MossError(f"{path} is not a text file.", "Choose another file.")
    with in_words(path, "read as class rules", "Its first line must read from,to,class,name,color."):
        rows = list(csv.DictReader(io.StringIO(text)))
    present = set(rows[0]) if rows else set()
    missing = [c for c in ("from", "to", "class") if c not in present]
    if missing:
        raise MossError(
            f"{path} has no column {', '.join(missing)}.", f"Its first line must read {','.join(COLUMNS)}."
        )
    rules = tuple(_rule(row, line, path) for line, row in enumerate(rows, start=2))
    try:
        return RuleSet(rules, closed)
    except AskedWronglyError as error:
        raise MossError(f"{path}: {error.what}", error.do, error.typed) from error


def write_rules(path: Path, rules: RuleSet) -> None:
    """Write class rules whole or not at all."""
    out = io.StringIO()
    table = csv.writer(out, lineterminator="\n")
    table.writerow(COLUMNS)
    for r in rules.rules:
        table.writerow([exact_text(r.low), exact_text(r.high), r.code, harmless(r.name), r.color])
    write_text(path, out.getvalue())


def _rule(row: dict[str, str | None], line: int, path: Path) -> Rule:
    code = as_whole(row["class"] or "")
    if code is None:
        raise MossError(
            f"{path}, line {line}: class '{(row['class'] or '')[:40]}' is not a whole number.",
            "Mend the line.",
        )
    name = as_meant((row.get("name") or "").strip()) or f"Class {code}"
    color = (row.get("color") or "").strip() or _SPARE_COLOR
    try:
        return Rule(_bound(row, "from", line, path), _bound(row, "to", line, path), code, name, color)
    except AskedWronglyError as error:
        raise MossError(f"{path}, line {line}: {error.what}", error.do, error.typed) from error


def _bound(row: dict[str, str | None], column: str, line: int, path: Path) -> float | None:
    text = (row[column] or "").strip()
    if not text:
        return None
    try:
        return float(text)
    except ValueError:
        raise MossError(
            f"{path}, line {line}: {column} '{text}' is not a number.", "Mend the line."
        ) from None
