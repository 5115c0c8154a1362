"""Gather: tables of measured places, such as soundings and spot heights."""

from __future__ import annotations

import re
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

import numpy as np
import shapely

from moss_step.formats import table as text
from moss_step.formats.table import TableText, read_table
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.findings import ASIDE, MAIN, USUAL, Finding, declared
from moss_step.model.frame import carried, reference_system
from moss_step.model.outcome import Outcome
from moss_step.model.progress import Progress
from moss_step.model.shapes import Shapes
from moss_step.model.table import Table
from moss_step.model.units import COUNT, METRE, UNKNOWN, Unit, unit_named
from moss_step.science.interpolate.table_check import (
    far_from_rest,
    metric_system,
    stand_for_nothing,
    swapped_axes,
)
from moss_step.steps.declare import Inputs, ResultSpec, Settings, StepKind, setting
from moss_step.steps.fields import SystemField, title_of

_ROWS = declared("rows_read", "Rows", MAIN)
_LEFT_OUT = declared("left_out", "Left out", USUAL)
_FAR = declared("far_values", "Far from their neighbours", USUAL)
_DOUBLED = declared("doubled_places", "In one place with another", ASIDE)
_NAMED = 12
"""Rows that are named, of each sort."""
_DEGREES = "EPSG:4326"


class OpenTableSettings(Settings):
    """Settings of open_table."""

    source: str = setting(..., "File", "A table as text: CSV or the like.", control="file")
    x: str = setting("", "East", "The column, or its number from 1; left out, x, easting, lon ...")
    y: str = setting("", "North", "The column, or its number from 1; left out, y, northing, lat ...")
    value: str = setting("", "Value", "The column that was measured; left out, depth, z, height ...")
    crs: SystemField | None = setting(
        None, "Reference system", "Of the coordinates: EPSG:code or WKT. Longitude and latitude are known.",
        control="crs",
    )  # fmt: skip
    unit: Literal["as_named", "metre", "centimetre", "foot", "us_survey_foot", "fathom", "none"] = setting(
        "as_named",
        "Unit of values",
        "`as_named` takes that in its name, such as depth_m; else metres.",
    )
    measures: Literal["as_named", "height", "depth", "other"] = setting(
        "as_named", "Values are",
        "`depth` counts down from the water, `height` up; `as_named` goes by the column's name.",
    )  # fmt: skip
    water_level: float | None = setting(
        None, "Level of the water", "Height of the water when it was sounded: depths become heights.",
        more=True,
    )  # fmt: skip
    level_column: str = setting(
        "", "Column of levels", "Where each row has a level of its own, as with tides.", more=True
    )
    leave_out: str = setting("", "Leave out", "Lines of the file, such as 12, 40-42.")
    reason: str = setting("", "Because", "Why these lines are left out: it stays with the study.")
    metric: bool = setting(
        True,
        "In metres",
        "Longitude and latitude are carried over to the UTM zone that holds them.",
        more=True,
    )
    delimiter: Literal["found", "comma", "semicolon", "tab", "blank", "bar"] = setting(
        "found", "Between columns", "What parts the columns.", more=True
    )
    decimal: Literal["found", "point", "comma"] = setting("found", "Decimal", "In numbers.", more=True)
    header: Literal["found", "yes", "no"] = setting(
        "found", "Line of names", "Whether the first line holds names.", more=True
    )


@dataclass(frozen=True, eq=False)
class _Read:
    """Rows with coordinates and values (n each), the lines that they stand in, and what is to be said."""

    x: np.ndarray
    y: np.ndarray
    values: np.ndarray
    crs: str | None
    kept: np.ndarray
    """Which rows of the table they are."""
    said: tuple[str, ...]
    out: int


def lines_named(text: str) -> set[int]:
    """Numbers of lines from text such as ``12, 40-42``.

    Raises AskedWronglyError for what is none.
    """
    result: set[int] = set()
    for part in filter(None, (p.strip() for p in re.split(r"[,;\s]+(?!-)", text))):
        found = re.fullmatch(r"(\d{1,9})(?:-(\d{1,9}))?", part)
        if found is None or int(found[2] or found[1]) - int(found[1]) > 1_000_000:
            raise AskedWronglyError(f"`leave_out`: '{part}' is no line.", "Write lines as 12, 40-42.")
        result |= set(range(int(found[1]), int(found[2] or found[1]) + 1))
    return result


def _some(lines: np.ndarray) -> str:
    shown = ", ".join(str(n) for n in lines[:_NAMED].tolist())
    return f"line {shown}" if len(lines) == 1 else f"lines {shown}{' …' if len(lines) > _NAMED else ''}"


def _columns(settings: OpenTableSettings, table: TableText) -> tuple[str, str, str]:
    """Names of the columns of x, y and the value.

    Raises AskedWronglyError when there is none to be guessed.
    """
    names = table.names
    x = settings.x or table.guess(text.X_NAMES) or (names[0] if not table.header else "")
    y = settings.y or table.guess(text.Y_NAMES) or (names[1] if not table.header else "")
    third = names[2] if len(names) > 2 and not table.header else ""
    value = settings.value or table.guess(text.VALUE_NAMES) or third
    if not x or not y:
        raise AskedWronglyError(
            "It is not known which columns hold the places.", f"Choose x and y among: {', '.join(names)}."
        )
    if not value:
        value = next((n for n in names if n not in (x, y) and _mostly_numbers(table, n)), "")
    if not value:
        raise AskedWronglyError(
            "It is not known which column was measured.", f"Choose it among: {', '.join(names)}."
        )
    return tuple(names[table.index(n)] for n in (x, y, value))  # type: ignore[return-value]


def _mostly_numbers(table: TableText, name: str) -> bool:
    held = text.numbers(table.column(name)[:200], table.decimal)
    return bool(np.isfinite(held).mean() > 0.5)


def _read(settings: OpenTableSettings, table: TableText, x: str, y: str, value: str) -> _Read:
    said: list[str] = []
    degrees = {x.lower(), y.lower()} & set(text.DEGREE_NAMES)
    crs = settings.crs or (_DEGREES if degrees else None)
    angular = crs is not None and reference_system(crs).is_geographic
    of = text.angles if angular or crs is None else text.numbers
    px, py = of(table.column(x), table.decimal), of(table.column(y), table.decimal)
    z = text.numbers(table.column(value), table.decimal)
    if not np.isfinite(z).any():
        raise MossError(
            f"The column '{value}' holds no numbers.", "Choose another, or the other decimal mark."
        )
    out = np.isin(table.lines, list(lines_named(settings.leave_out)))
    if out.any():
        said.append(
            f"Left out as asked: {_some(table.lines[out])}"
            + (f" ({settings.reason})." if settings.reason else ".")
        )
    nowhere, marked = ~np.isfinite(px) | ~np.isfinite(py), stand_for_nothing(z)
    for wrong, what in (
        (nowhere, "with no place are left out"),
        (~np.isfinite(z), "with no number have no value"),
        (marked, "with a number that stands for no value have none"),
    ):
        more = wrong & ~out
        if more.any():
            said.append(f"{int(more.sum()):,} {what}: {_some(table.lines[more])}.")
    z = np.where(marked, np.nan, z)
    out = out | nowhere
    if table.ragged:
        said.append(f"Another number of fields in {_some(np.array(table.ragged))}.")
    kept = np.flatnonzero(~out)
    if not np.isfinite(z[kept]).any():
        raise MossError("No row has a place and a number.", "Choose other columns, or another decimal mark.")
    return _Read(px[kept], py[kept], z[kept], crs, kept, tuple(said), int(out.sum()))


def _checked(settings: OpenTableSettings, read: _Read, lines: np.ndarray) -> tuple[str, ...]:
    """What is suspicious, with the lines that it stands in.

    Raises MossError for latitudes that are none.
    """
    said = []
    geographic = read.crs is not None and reference_system(read.crs).is_geographic
    if swapped_axes(read.x, read.y, read.crs):
        said.append("East and north seem swapped: the places lie far from where the system is used.")
    elif geographic and (np.abs(read.y) > 90.0).any():
        wrong = lines[np.abs(read.y) > 90.0]
        raise MossError(
            f"A latitude beyond 90 degrees in {_some(wrong)}.", "Leave these lines out, or swap the columns."
        )
    if read.crs is None:
        said.append("No reference system is stated: distances are taken as metres.")
    return tuple(said)


def _in_metres(
    settings: OpenTableSettings, read: _Read
) -> tuple[np.ndarray, np.ndarray, str | None, tuple[str, ...]]:
    if read.crs is None or not reference_system(read.crs).is_geographic or not settings.metric:
        return read.x, read.y, read.crs, ()
    if swapped_axes(read.x, read.y, read.crs):
        return read.x, read.y, read.crs, ()
    target = metric_system(read.x, read.y)
    x, y = carried(read.crs, target, read.x, read.y)
    return x, y, target, (f"Carried over to metres: {reference_system(target).name} ({target}).",)


def _unit(settings: OpenTableSettings, name: str) -> Unit:
    """Unit of the values: as stated, of the column's name, or metres."""
    if settings.unit != "as_named":
        return unit_named(settings.unit) or UNKNOWN
    for word in reversed(re.split(r"[^A-Za-z]+", name)):
        found = unit_named(word) if len(word) <= 10 and word.lower() not in ("h", "z") else None
        if found is not None and found.kind == "length":
            return found
    return METRE


def _both_ways(
    settings: OpenTableSettings, table: TableText, read: _Read, value: str
) -> dict[str, np.ndarray]:
    """Depth and height of each row, as far as they follow: the right way up."""
    sort = settings.measures
    if sort == "as_named":
        lower = value.lower()
        sort = (
            "depth"
            if "depth" in lower or "sounding" in lower
            else "height"
            if lower in text.VALUE_NAMES
            else "other"
        )
    if sort == "other":
        return {}
    level: np.ndarray | float | None = settings.water_level
    if settings.level_column:
        level = text.numbers(table.column(settings.level_column), table.decimal)[read.kept]
    if sort == "height":
        return {"height": read.values} | ({} if level is None else {"depth": level - read.values})
    return {"depth": read.values, "height": (0.0 if level is None else level) - read.values}


def _others(table: TableText, read: _Read, taken: set[str]) -> dict[str, np.ndarray]:
    """The other columns: numbers where all that is written is one, else text."""
    result: dict[str, np.ndarray] = {}
    for name in table.names:
        if name in taken:
            continue
        held = table.column(name)
        some = [held[k] for k in read.kept.tolist()]
        values = text.numbers(some, table.decimal)
        plain = all(np.isfinite(v) or not t for v, t in zip(values.tolist(), some, strict=True))
        result[name] = values if plain and np.isfinite(values).any() else np.array(some, object)
    return result


def _open_table(settings: OpenTableSettings, inputs: Inputs, progress: Progress) -> Outcome:
    progress.at(0.0, "Reading the table")
    mark = "" if settings.delimiter == "found" else settings.delimiter
    decimal = {"found": "", "point": ".", "comma": ","}[settings.decimal]
    header = {"found": None, "yes": True, "no": False}[settings.header]
    table = read_table(Path(settings.source), mark, decimal, header)
    x, y, value = _columns(settings, table)
    read = _read(settings, table, x, y, value)
    lines = table.lines[read.kept]
    progress.at(0.6, "Looking for what is suspicious")
    said = (*read.said, *_checked(settings, read, lines))
    px, py, crs, moved = _in_metres(settings, read)
    unit = _unit(settings, value)
    ways = _both_ways(settings, table, read, value)
    columns: dict[str, np.ndarray] = {value: read.values, **ways, "line": lines}
    columns |= {n: v for n, v in _others(table, read, {x, y, value}).items() if n not in columns}
    known = np.isfinite(read.values)
    far = np.zeros(len(px), bool)
    far[known] = far_from_rest(px[known], py[known], read.values[known])
    if far.any():
        said = (*said, f"Far from their neighbours: {_some(lines[far])}. Leave them out if they are wrong.")
    places = np.column_stack([px, py])
    doubled = len(places) - len(np.unique(places, axis=0))
    if doubled:
        said = (*said, f"{doubled:,} rows stand where another stands.")
    symbols = dict.fromkeys((value, *ways), unit.symbol)
    shapes = Shapes(np.asarray(shapely.points(px, py)), columns, crs, symbols)
    findings = (
        Finding(_ROWS, len(read.kept), COUNT), Finding("lowest", float(np.nanmin(read.values)), unit),
        Finding("highest", float(np.nanmax(read.values)), unit),
        Finding("mean", float(np.nanmean(read.values)), unit),
        Finding(_LEFT_OUT, read.out, COUNT), Finding(_FAR, int(far.sum()), COUNT),
        Finding(_DOUBLED, doubled, COUNT),
    )  # fmt: skip
    how = f"East is '{x}', north '{y}', and '{value}' was measured."

    def rows() -> Outcome:
        return Outcome(Table(text.first_rows(table)), table.said, findings, (table.said, how))

    return Outcome(
        shapes,
        f"{len(read.kept):,} places",
        findings,
        (*said, *moved, table.said, how),
        beside={"rows": rows},
    )


open_table = StepKind(
    kind="open_table",
    example="source=soundings.csv",
    bench="gather",
    group="Bring in",
    title="Open a table",
    question="Which places were measured?",
    help=(
        "Reads soundings, spot heights or other measured places from a table, says how it was read, and "
        "names the lines that are doubled, blank, no numbers, or far from the rest."
    ),
    words=(
        "csv", "text", "soundings", "spot heights", "columns", "coordinates", "delimited",
        "survey points", "import", "load",
    ),
    inputs=(),
    settings=OpenTableSettings,
    gives="shapes",
    run=_open_table,
    label=lambda s, names: title_of(s.source),
    opens=text.ENDINGS,
    main="Places",
    beside=(ResultSpec("rows", "table", "First rows", "The first rows as they stand in the file."),),
    staple=3,
)  # fmt: skip
