"""Handing results on: which open formats each kind of result can be written in, and writing them."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Mapping
from pathlib import Path

import numpy as np

from moss_step.formats.cells import harmless
from moss_step.formats.raster import write_class_map, write_surface
from moss_step.formats.vector import DRIVERS, split_layer, write_shapes
from moss_step.formats.whole import write_text
from moss_step.model.class_map import ClassMap
from moss_step.model.errors import AskedWronglyError
from moss_step.model.progress import Progress
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.table import Table
from moss_step.model.typed import as_kind
from moss_step.steps.declare import Outcome, ValueKind

ENDINGS: dict[ValueKind, tuple[str, ...]] = {
    "surface": (".tif", ".tiff", ".asc"),
    "classes": (".tif", ".tiff", ".csv"),
    "shapes": (*DRIVERS, ".csv"),
    "table": (".csv",),
}
_COLUMNS = ("class", "name", "color", "range", "count", "area_m2", "share")


def kind_of(outcome: Outcome) -> ValueKind:
    """Which kind of value a result is."""
    if isinstance(outcome.value, Surface):
        return "surface"
    if isinstance(outcome.value, Table):
        return "table"
    return "classes" if isinstance(outcome.value, ClassMap) else "shapes"


def check_ending(path: Path, kind: ValueKind) -> None:
    """Raise AskedWronglyError when a kind of value cannot be written under this ending."""
    if path.suffix.lower() not in ENDINGS[kind]:
        what = {"surface": "A surface", "classes": "A class map", "shapes": "A set of shapes", "table": "A table"}[kind]
        raise AskedWronglyError(f"{what} cannot be written as '{path.name}'.", f"End it in {', '.join(ENDINGS[kind])}.")


def check_not_a_source(path: Path, sources: Iterable[str]) -> None:
    """Raise AskedWronglyError when a file to write is one that is read: it would be gone afterwards."""
    for source in sources:
        read = split_layer(source)[0]
        if path.exists() and read.exists() and path.samefile(read):
            raise AskedWronglyError(f"{path} is read for this, and would be replaced by the result.", "Give the result another name.")


def hand_on(outcome: Outcome, name: str, path: Path, progress: Progress | None = None) -> None:
    """Write a result in the format of the ending, whole or not at all."""
    check_ending(path, kind_of(outcome))
    value = outcome.value
    if isinstance(value, Surface):
        write_surface(path, value, name, progress)
    elif isinstance(value, Table):
        write_text(path, table_text(value.columns))
    elif isinstance(value, Shapes):
        if path.suffix.lower() == ".csv":
            write_text(path, table_text(value.columns))
        else:
            write_shapes(path, value)
    elif path.suffix.lower() == ".csv":
        write_text(path, class_table(outcome))
    else:
        write_class_map(path, value, name, progress)


def table_text(columns: Mapping[str, np.ndarray]) -> str:
    """Give columns as CSV; missing numbers are empty."""
    out = io.StringIO()
    table = csv.writer(out, lineterminator="\n")
    table.writerow([harmless(name) for name in columns])
    for row in zip(*columns.values(), strict=True):
        table.writerow(["" if isinstance(v, float | np.floating) and np.isnan(v) else _plain(v) for v in row])
    return out.getvalue()


def _plain(value: object) -> object:
    return f"{value:.10g}" if isinstance(value, float | np.floating) else harmless(value) if isinstance(value, str) else value


def class_table(outcome: Outcome) -> str:
    """Give a class map's table as CSV: class, name, color, range, count, area_m2, share (0 to 1)."""
    classes = as_kind(outcome.value, ClassMap).classes
    found = {(f.of, f.name): f.value for f in outcome.findings}
    out = io.StringIO()
    table = csv.writer(out, lineterminator="\n")
    table.writerow(_COLUMNS)
    for c in classes:
        numbers = (
            int(found[c.name, "count"]),
            f"{found[c.name, 'area_m2']:.3f}",
            f"{found[c.name, 'share']:.8f}",
        )
        table.writerow([c.code, harmless(c.name), c.color, harmless(c.text), *numbers])
    return out.getvalue()
