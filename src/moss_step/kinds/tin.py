"""TINs: surfaces of triangles, as PLY, OBJ, LandXML or areas with heights."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict
from pathlib import Path
from typing import Any

import numpy as np

from moss_step.formats.tin import ENDINGS, read_tin, write_tin
from moss_step.kinds.kind import Kind, Parts
from moss_step.model.frame import reference_system
from moss_step.model.outcome import Outcome
from moss_step.model.progress import Progress
from moss_step.model.tin import Tin
from moss_step.model.typed import as_kind
from moss_step.model.units import Unit


def _read(source: str, _: Progress) -> tuple[Tin, list[str]]:
    tin = read_tin(Path(source))
    unstated = [] if tin.crs else ["No reference system is stated: distances are taken as metres."]
    return tin, unstated


def _write(outcome: Outcome, name: str, path: Path, progress: Progress | None) -> None:
    write_tin(path, as_kind(outcome.value, Tin), name)


def _parts(value: Tin) -> Parts:
    return {"crs": value.crs, "unit": asdict(value.unit)}, [
        value.x, value.y, value.z, value.triangles, value.lines,
    ]  # fmt: skip


def _restored(about: Mapping[str, Any], arrays: list[np.ndarray]) -> Tin:
    x, y, z, triangles, lines = arrays
    return Tin(x, y, z, triangles, lines, about["crs"], Unit(**about["unit"]))


def _facts(value: Tin) -> list[tuple[str, str]]:
    low, high = value.range or (float("nan"), float("nan"))
    return [
        ("Triangles", f"{len(value):,}"),
        ("Points", f"{len(value.x):,}"),
        ("Break lines", f"{len(value.lines):,} edges"),
        ("Reference system", reference_system(value.crs).name if value.crs else "none"),
        ("Heights", f"{low:.2f} to {high:.2f} {value.unit.symbol}".rstrip()),
    ]


def _losses(path: Path, value: Tin) -> tuple[str, ...]:
    """What files of an ending cannot say."""
    if path.suffix.lower() == ".xml" and len(value.lines):
        return ("LandXML files hold the triangles here, and not which edges are break lines.",)
    return ()


TIN = Kind(
    "tin",
    Tin,
    "a TIN",
    ENDINGS,
    _read,
    _write,
    lambda v: f"{len(v):,} triangles between {len(v.x):,} points, {v.crs or 'no reference system'}",
    _parts,
    _restored,
    facts=_facts,
    losses=_losses,
    sample="surface.ply",
)
