"""Clouds: points with heights and attributes, as CSV with a column for each."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict
from pathlib import Path
from typing import Any

import numpy as np

from moss_step.formats.columns_csv import read_numbers, table_chunks
from moss_step.formats.whole import write_chunks
from moss_step.kinds.kind import Columns, Kind, Parts
from moss_step.model.cloud import Cloud
from moss_step.model.errors import MossError
from moss_step.model.outcome import Outcome
from moss_step.model.progress import Progress
from moss_step.model.typed import as_kind
from moss_step.model.units import Unit

_PLACES = ("x", "y", "z")
_AT_ONCE = 50_000


def _read(source: str, _: Progress) -> tuple[Cloud, list[str]]:
    columns = read_numbers(Path(source))
    if any(name not in columns for name in _PLACES):
        raise MossError(f"{source} has no columns x, y and z.", f"Its columns: {', '.join(columns)}.")
    x, y, z = (columns.pop(name) for name in _PLACES)
    return Cloud(x, y, z, columns), ["No reference system and no unit of heights are stated in such a file."]


def _write(outcome: Outcome, name: str, path: Path, progress: Progress | None) -> None:
    cloud = as_kind(outcome.value, Cloud)
    write_chunks(
        path, table_chunks(_by_name(part) for part in (cloud.chunks(_AT_ONCE) if len(cloud) else [cloud]))
    )


def _by_name(cloud: Cloud) -> dict[str, np.ndarray]:
    return {"x": cloud.x, "y": cloud.y, "z": cloud.z, **cloud.attributes}


def _parts(value: Cloud) -> Parts:
    about = {"crs": value.crs, "unit": asdict(value.unit), "attributes": list(value.attributes)}
    return about, [value.x, value.y, value.z, *value.attributes.values()]


def _restored(about: Mapping[str, Any], arrays: list[np.ndarray]) -> Cloud:
    attributes = dict(zip(about["attributes"], arrays[3:], strict=True))
    return Cloud(arrays[0], arrays[1], arrays[2], attributes, about["crs"], Unit(**about["unit"]))


def _columns(outcome: Outcome) -> Columns:
    cloud = as_kind(outcome.value, Cloud)
    return _by_name(cloud), {"z": cloud.unit.symbol}


def _facts(value: Cloud) -> list[tuple[str, str]]:
    rows = [
        ("Points", f"{len(value):,}"),
        ("Reference system", value.crs or "none"),
        ("Attributes", ", ".join(value.attributes) or "none"),
    ]
    if value.bounds is not None:
        low, high = value.bounds[1]
        rows.append(("Heights", f"{low:.2f} to {high:.2f} {value.unit.symbol}".rstrip()))
    return rows


CLOUD = Kind(
    "cloud",
    Cloud,
    "a point cloud",
    (".csv",),
    _read,
    _write,
    lambda v: f"{len(v):,} points, {v.crs or 'no reference system'}",
    _parts,
    _restored,
    columns=_columns,
    facts=_facts,
)
