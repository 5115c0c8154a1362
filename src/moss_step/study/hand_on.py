"""Handing results on: which open formats each kind of result can be written in, and writing them."""

from __future__ import annotations

import csv
import io
from pathlib import Path

from moss_step.formats.raster import write_class_map, write_surface
from moss_step.formats.vector import DRIVERS, write_shapes
from moss_step.formats.whole import write_text
from moss_step.model.class_map import ClassMap
from moss_step.model.errors import AskedWronglyError
from moss_step.model.progress import Progress
from moss_step.model.surface import Surface
from moss_step.steps.declare import Outcome, ValueKind

ENDINGS: dict[ValueKind, tuple[str, ...]] = {
    "surface": (".tif", ".tiff", ".asc"),
    "classes": (".tif", ".tiff", ".csv"),
    "shapes": tuple(DRIVERS),
}
_COLUMNS = ("class", "name", "color", "range", "count", "area_m2", "share")


def kind_of(outcome: Outcome) -> ValueKind:
    """Which kind of value a result is."""
    if isinstance(outcome.value, Surface):
        return "surface"
    return "classes" if isinstance(outcome.value, ClassMap) else "shapes"


def check_ending(path: Path, kind: ValueKind) -> None:
    """Raise AskedWronglyError when a kind of value cannot be written under this ending."""
    if path.suffix.lower() not in ENDINGS[kind]:
        what = {"surface": "A surface", "classes": "A class map", "shapes": "A set of shapes"}[kind]
        raise AskedWronglyError(f"{what} cannot be written as '{path.name}'.", f"End it in {', '.join(ENDINGS[kind])}.")


def hand_on(outcome: Outcome, name: str, path: Path, progress: Progress | None = None) -> None:
    """Write a result in the format of the ending, whole or not at all."""
    check_ending(path, kind_of(outcome))
    value = outcome.value
    if isinstance(value, Surface):
        write_surface(path, value, name, progress)
    elif not isinstance(value, ClassMap):
        write_shapes(path, value)
    elif path.suffix.lower() == ".csv":
        write_text(path, class_table(outcome))
    else:
        write_class_map(path, value, name, progress)


def class_table(outcome: Outcome) -> str:
    """Give a class map's table as CSV: class, name, color, range, count, area_m2, share (0 to 1)."""
    assert isinstance(outcome.value, ClassMap)  # noqa: S101 - asked of class maps only
    found = {(f.of, f.name): f.value for f in outcome.findings}
    out = io.StringIO()
    table = csv.writer(out, lineterminator="\n")
    table.writerow(_COLUMNS)
    for c in outcome.value.classes:
        numbers = (
            int(found[c.name, "count"]),
            f"{found[c.name, 'area_m2']:.3f}",
            f"{found[c.name, 'share']:.8f}",
        )
        table.writerow([c.code, c.name, c.color, c.text, *numbers])
    return out.getvalue()
