"""Rows of a result for a table on a page: some columns, sorted, with sums."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from moss_step.model.errors import MossError
from moss_step.model.telling import finding_text
from moss_step.scene.sheet.sheet import Sheet
from moss_step.scene.tables import cell_text, column_words
from moss_step.science.zones.choose import rows_matching
from moss_step.study.pages import TablePart

MOST_COLUMNS = 7
_HIDDEN = ("geometry", "x", "y", "fid")


@dataclass(frozen=True)
class Rows:
    """Heads, cells and sums as they are written; ``numbers`` says which columns stand at the right, and
    ``left`` how many rows have no room.
    """

    heads: tuple[str, ...] = ()
    cells: tuple[tuple[str, ...], ...] = ()
    sums: tuple[str, ...] = ()
    numbers: tuple[bool, ...] = ()
    left: int = 0
    remark: str = ""
    colors: tuple[str, ...] = ()


def columns_of(sheet: Sheet, ref: str) -> tuple[Mapping[str, np.ndarray], Mapping[str, str]]:
    """Columns of a result by name, and their symbols; none where it has no rows, or is not there."""
    picture = sheet.now.picture(ref) if sheet.now.study.has(ref) else None
    value = None if picture is None else picture.value
    columns: Mapping[str, np.ndarray] = getattr(value, "columns", None) or {}
    if not columns:
        return {}, {}
    symbol = getattr(value, "symbol", None)
    if callable(symbol):
        return columns, {n: symbol(n) for n in columns}
    units = getattr(value, "units", {})
    return columns, {n: units[n].symbol for n in columns if n in units}


def rows_of_result(sheet: Sheet, part: TablePart) -> Rows:
    """The rows that a table shows: those of its result, or its findings where that has none."""
    study, ref = sheet.now.study, part.result
    if not study.has(ref):
        return Rows(remark="[removed]" if ref else "No result is chosen.")
    columns, symbols = columns_of(sheet, ref)
    if not columns:
        return _classes(sheet, ref)
    names = [n for n in part.columns if n in columns] or _usual(columns)
    try:
        kept = rows_matching(columns, part.where) if part.where else np.arange(len(columns[names[0]]))
    except MossError as error:
        return Rows(remark=str(error))
    if part.by in columns:
        kept = kept[np.argsort(columns[part.by][kept], kind="stable")]
        kept = kept[::-1] if part.down else kept
    shown = kept[: part.rows] if part.rows else kept
    telling = {n: study.telling.column(symbols.get(n, "")) for n in names}
    cells = tuple(tuple(_text(columns[n][row], *telling[n]) for n in names) for row in shown)
    sums: tuple[str, ...] = ()
    wanted = [n for n in names if n in part.sums and columns[n].dtype.kind in "iuf"]
    if wanted:
        sums = tuple(
            _text(np.nansum(columns[n][kept].astype(np.float64)), *telling[n]) if n in wanted else ""
            for n in names
        )
    gone = [n for n in part.columns if n not in columns]
    return Rows(
        tuple(column_words(n, telling[n][1]) for n in names),
        cells,
        sums,
        tuple(columns[n].dtype.kind in "biuf" for n in names),
        len(kept) - len(shown),
        f"Without {', '.join(gone)}: the result has no such column." if gone else "",
    )


def _usual(columns: Mapping[str, np.ndarray]) -> list[str]:
    return [n for n in columns if n not in _HIDDEN][:MOST_COLUMNS]


def _text(value: object, factor: float, symbol: str) -> str:
    told = value * factor if factor != 1.0 and isinstance(value, float | int | np.number) else value
    return cell_text(told, symbol)


def _classes(sheet: Sheet, ref: str) -> Rows:
    """The findings of a result: those of each class in a row, where it tells any of classes."""
    said = sheet.now.said.get(ref)
    if said is None:
        failed = sheet.now.failures.get(ref)
        return Rows(remark="[failed]" if failed else "[not worked out]")
    telling = sheet.now.study.telling
    of = list(dict.fromkeys(f.of for f in said.findings if f.of))
    if not of:
        plain = tuple((f.title, finding_text(f, telling)) for f in said.findings)
        return Rows(("Figure", "Value"), plain, (), (False, True))
    titles = list(dict.fromkeys(f.title for f in said.findings if f.of))
    found = {(f.of, f.title): finding_text(f, telling) for f in said.findings if f.of}
    whole = {f.title: finding_text(f, telling) for f in said.findings if not f.of}
    cells = tuple((name, *(found.get((name, t), "") for t in titles)) for name in of)
    sums = ("All", *(whole.get(t, "") for t in titles)) if any(t in whole for t in titles) else ()
    picture = sheet.now.picture(ref)
    entries = getattr(picture.value, "classes", ()) if picture is not None else ()
    by_name = {getattr(e, "name", ""): getattr(e, "color", "") for e in entries}
    return Rows(
        ("Class", *titles), cells, sums, (False, *(True for _ in titles)), 0, "",
        tuple(by_name.get(n, "") for n in of),
    )  # fmt: skip
