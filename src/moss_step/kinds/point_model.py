"""Learned classes of points, as JSON."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict
from pathlib import Path
from typing import Any

import numpy as np

from moss_step.formats.point_model import read_model, write_model
from moss_step.kinds.kind import Columns, Kind, Parts
from moss_step.model.cloud import PointClass
from moss_step.model.outcome import Outcome
from moss_step.model.point_model import PointModel
from moss_step.model.progress import Progress
from moss_step.model.typed import as_kind


def _read(source: str, _: Progress) -> tuple[PointModel, list[str]]:
    return read_model(Path(source)), []


def _write(outcome: Outcome, name: str, path: Path, progress: Progress | None) -> None:
    write_model(path, as_kind(outcome.value, PointModel))


def _parts(value: PointModel) -> Parts:
    about = {
        "name": value.name,
        "method": value.method,
        "classes": [asdict(c) for c in value.classes],
        "measures": list(value.measures),
        "radii": list(value.radii),
        "about": dict(value.about),
        "arrays": list(value.arrays),
    }
    return about, list(value.arrays.values())


def _restored(about: Mapping[str, Any], arrays: list[np.ndarray]) -> PointModel:
    classes = tuple(PointClass(**c) for c in about["classes"])
    held = dict(zip(about["arrays"], arrays, strict=True))
    return PointModel(
        about["name"], about["method"], classes, tuple(about["measures"]), tuple(about["radii"]), held,
        about["about"],
    )  # fmt: skip


def _columns(outcome: Outcome) -> Columns:
    """The measures, what contributes most first."""
    model = as_kind(outcome.value, PointModel)
    order = np.argsort(-model.arrays["weight"], kind="stable")
    names = np.array(model.measures, object)[order]
    return {"measure": names, "contributes": model.arrays["weight"][order]}, {}


def _facts(value: PointModel) -> list[tuple[str, str]]:
    return [
        ("Classes", ", ".join(f"{c.code} {c.name}" for c in value.classes)),
        ("Learned by", value.method),
        ("Measures", f"{len(value.measures)}"),
        ("Radii", ", ".join(f"{r:g} m" for r in value.radii)),
        *((str(k).replace("_", " ").capitalize(), str(v)) for k, v in value.about.items()),
    ]


POINT_MODEL = Kind(
    "point_model",
    PointModel,
    "learned classes of points",
    (".json",),
    _read,
    _write,
    lambda v: f"{v.name}: {len(v.classes)} classes by {len(v.measures)} measures",
    _parts,
    _restored,
    columns=_columns,
    facts=_facts,
    sample="walls.class.json",
)
