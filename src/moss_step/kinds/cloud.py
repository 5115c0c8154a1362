"""Clouds: points with heights and attributes, as LAS and LAZ, or as CSV with a column for each."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict
from pathlib import Path
from typing import Any

import numpy as np

from moss_step.formats.cloud_source import read_source
from moss_step.formats.columns_csv import table_chunks
from moss_step.formats.las import ENDINGS, describe
from moss_step.formats.las_write import write_cloud
from moss_step.formats.source import members
from moss_step.formats.whole import write_chunks
from moss_step.kinds.kind import Columns, Kind, Parts
from moss_step.model.cloud import Cloud, CloudHead, ExtraField, PointClass, Record
from moss_step.model.outcome import Outcome
from moss_step.model.progress import Progress, silent
from moss_step.model.typed import as_kind
from moss_step.model.units import Unit

_AT_ONCE = 50_000


def _read(source: str, progress: Progress) -> tuple[Cloud, list[str]]:
    made = read_source(source, progress=progress)
    return made.cloud, list(made.remarks)


def _write(outcome: Outcome, name: str, path: Path, progress: Progress | None) -> None:
    cloud = as_kind(outcome.value, Cloud)
    if path.suffix.lower() in ENDINGS:
        write_cloud(path, cloud, progress)
        return
    write_chunks(
        path, table_chunks(_by_name(part) for part in (cloud.chunks(_AT_ONCE) if len(cloud) else [cloud]))
    )


def _by_name(cloud: Cloud) -> dict[str, np.ndarray]:
    return {"x": cloud.x, "y": cloud.y, "z": cloud.z, **cloud.attributes}


def _parts(value: Cloud) -> Parts:
    about = {
        "crs": value.crs,
        "unit": asdict(value.unit),
        "attributes": list(value.attributes),
        "head": _head_parts(value.head),
        "own": [asdict(c) for c in value.own],
    }
    return about, [value.x, value.y, value.z, *value.attributes.values()]


def _head_parts(head: CloudHead | None) -> dict[str, Any] | None:
    if head is None:
        return None
    records = [{**asdict(r), "content": r.content.hex()} for r in head.records]
    return {**asdict(head), "records": records, "extra": [asdict(e) for e in head.extra]}


def _head_from(about: Mapping[str, Any] | None) -> CloudHead | None:
    if about is None:
        return None
    records = tuple(Record(**{**r, "content": bytes.fromhex(r["content"])}) for r in about["records"])
    extra = tuple(_extra_from(e) for e in about["extra"])
    scales, offsets = (tuple(about[n]) for n in ("scales", "offsets"))
    return CloudHead(**{**about, "records": records, "extra": extra, "scales": scales, "offsets": offsets})


def _extra_from(about: Mapping[str, Any]) -> ExtraField:
    scales, offsets = (None if about[n] is None else tuple(about[n]) for n in ("scales", "offsets"))
    return ExtraField(about["name"], about["type"], about["description"], scales, offsets)


def _restored(about: Mapping[str, Any], arrays: list[np.ndarray]) -> Cloud:
    attributes = dict(zip(about["attributes"], arrays[3:], strict=True))
    head = _head_from(about["head"])
    own = tuple(PointClass(**c) for c in about.get("own", []))
    return Cloud(arrays[0], arrays[1], arrays[2], attributes, about["crs"], Unit(**about["unit"]), head, own)


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


def _stand_in(source: str) -> tuple[Cloud, str]:
    """A cloud as large as that of a file or several, from their heads, without memory of its own."""
    files = members(Path(source))
    if len(files) == 1 and files[0].suffix.lower() not in ENDINGS:
        count = len(_read(source, silent())[0])
    else:
        count = sum(describe(file).count for file in files)
    nothing = np.broadcast_to(np.float64(0.0), count)
    several = f" in {len(files)} files" if len(files) > 1 else ""
    return Cloud(nothing, nothing, nothing), f"{count:,} points{several}".replace(",", " ")


CLOUD = Kind(
    "cloud",
    Cloud,
    "a point cloud",
    (".laz", ".las", ".csv"),
    _read,
    _write,
    lambda v: f"{len(v):,} points, {v.crs or 'no reference system'}",
    _parts,
    _restored,
    columns=_columns,
    facts=_facts,
    sample="cloud.laz",
    stand_in=_stand_in,
)
