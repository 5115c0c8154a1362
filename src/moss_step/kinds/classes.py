"""Class maps: grids of classes, in files of the raster library with names and colours, and their table as
CSV.
"""

from __future__ import annotations

import csv
import io
from collections.abc import Mapping
from dataclasses import asdict, replace
from pathlib import Path
from typing import Any

import numpy as np

from moss_step.formats import coverage
from moss_step.formats.cells import harmless
from moss_step.formats.dictionary import write_described
from moss_step.formats.raster import frame_in, read_class_map
from moss_step.formats.raster_write import attribute_table, begin_classes, write_class_map
from moss_step.formats.tiled import TiledFile
from moss_step.formats.vector import split_layer
from moss_step.kinds.grids import cells_of, frame_text
from moss_step.kinds.kind import Columns, Kind, Parts
from moss_step.model.class_map import NO_CLASS, ClassEntry, ClassMap
from moss_step.model.frame import Frame
from moss_step.model.outcome import Outcome
from moss_step.model.progress import Progress
from moss_step.model.rules import exact_text
from moss_step.model.typed import as_kind

_TYPES = {
    "from": "number", "to": "number", "class": "integer", "count": "integer", "area_m2": "number",
    "share": "number",
}  # fmt: skip
_BOUNDS, _COLUMNS = ("from", "to"), ("class", "name", "color", "unit", "range", "count", "area_m2", "share")


def _read(source: str, _: Progress) -> tuple[ClassMap, list[str]]:
    return read_class_map(split_layer(source)[0]), []


def _write(outcome: Outcome, name: str, path: Path, progress: Progress | None) -> None:
    if path.suffix.lower() == ".csv":
        text = class_table(outcome)
        types = {n: _TYPES.get(n, "string") for n in text.partition("\n")[0].split(",")}
        write_described(path, text, types, {"area_m2": "m²"}, name)
    else:
        write_class_map(path, as_kind(outcome.value, ClassMap), name, progress, outcome.lineage)


def class_table(outcome: Outcome) -> str:
    """Give a class map's table as CSV: class, name, color, unit, range, count, area_m2, share (0 to 1).

    Classes that were made by ranges have these as ``from`` and ``to``, and the table can be read as rules; a
    class of several ranges has a row for each, its numbers in the first.
    """
    classes = as_kind(outcome.value, ClassMap).classes
    result = {(f.of, f.name): f.value for f in outcome.findings}
    bounded = bool(classes) and all(c.ranges for c in classes)
    out = io.StringIO()
    table = csv.writer(out, lineterminator="\n")
    table.writerow([*(_BOUNDS if bounded else ()), *_COLUMNS])
    for c in classes:
        numbers: tuple[object, ...] = (
            int(result.get((c.name, "count"), 0)),  # nothing is said where no cell could be read
            f"{result.get((c.name, 'area_m2'), 0.0):.3f}",
            f"{result.get((c.name, 'share'), 0.0):.8f}",
        )
        about = [c.code, harmless(c.name), c.color, c.unit, harmless(c.text)]
        for low, high in c.ranges if bounded else ((None, None),):
            ends = [exact_text(low), exact_text(high)] if bounded else []
            table.writerow([*ends, *about, *numbers])
            numbers = ("", "", "")
    return out.getvalue()


def _parts(value: ClassMap) -> Parts:
    return {"frame": asdict(value.frame), "classes": [asdict(c) for c in value.classes]}, [value.codes]


def _entry(about: Mapping[str, Any]) -> ClassEntry:
    return ClassEntry(**{**about, "ranges": tuple((low, high) for low, high in about["ranges"])})


def _restored(about: Mapping[str, Any], arrays: list[np.ndarray]) -> ClassMap:
    return ClassMap(arrays[0], Frame(**about["frame"]), tuple(_entry(c) for c in about["classes"]))


def _columns(outcome: Outcome) -> Columns:
    """Classes with cells, area and share."""
    classes = as_kind(outcome.value, ClassMap).classes
    result = {(f.of, f.name): f.value for f in outcome.findings}
    columns = {
        "class": np.array([c.code for c in classes]), "name": np.array([c.name for c in classes], object),
        "cells": np.array([result.get((c.name, "count"), 0) for c in classes]),
        "area_ha": np.array([result.get((c.name, "area_m2"), 0.0) / 1e4 for c in classes]),
        "share": np.array([result.get((c.name, "share"), 0.0) for c in classes]),
    }  # fmt: skip
    return columns, {"area_ha": "ha"}


def _part(value: ClassMap, rows: slice, cols: slice) -> ClassMap:
    return replace(value, codes=value.codes[rows, cols], frame=value.frame.part(rows, cols))


def _stand_in(source: str) -> tuple[ClassMap, str]:
    frame, said = frame_in(source)
    return ClassMap(np.zeros(frame.shape, np.uint8), frame, ()), said


def _tiled(
    path: Path, about: Mapping[str, Any], frame: Frame, _: np.dtype, name: str, lineage: str
) -> TiledFile:
    return begin_classes(path, frame, tuple(_entry(c) for c in about["classes"]), name, lineage)


def _sidecar(outcome: Outcome) -> tuple[str, str]:
    classes = as_kind(outcome.value, ClassMap)
    counted = {f.of: int(f.value) for f in outcome.findings if f.name == "count"}
    counts = np.zeros(256, np.int64)
    for entry in classes.classes:
        counts[entry.code] = counted.get(entry.name, 0)
    return ".aux.xml", attribute_table(classes.classes, counts)


CLASSES = Kind(
    "classes",
    ClassMap,
    "a class map",
    (".tif", ".tiff", ".nc", ".csv"),
    _read,
    _write,
    lambda v: f"{len(v.classes)} classes; {frame_text(v.frame)}",
    _parts,
    _restored,
    beside=(".csv",),
    cells=cells_of,
    part=_part,
    columns=_columns,
    array=lambda v: v.codes,
    sample="classes.tif",
    layer=coverage.add_classes,
    stand_in=_stand_in,
    blank=NO_CLASS,
    tiled=_tiled,
    sidecar=_sidecar,
)
