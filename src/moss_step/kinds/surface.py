"""Surfaces: grids of measured values, in files that the raster library reads and writes."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict, replace
from pathlib import Path
from typing import Any

import numpy as np

from moss_step.formats import coverage, mesh
from moss_step.formats.raster import ENDINGS, frame_in, read_surface, split_band
from moss_step.formats.raster_write import begin_surface, losses, write_surface
from moss_step.formats.tiled import TiledFile
from moss_step.kinds.grids import cells_of, extent_text, frame_text
from moss_step.kinds.kind import Kind, Parts
from moss_step.model.frame import Frame
from moss_step.model.outcome import Outcome
from moss_step.model.progress import Progress
from moss_step.model.surface import Surface
from moss_step.model.typed import as_kind
from moss_step.model.units import Unit
from moss_step.model.words import value_text


def _read(source: str, progress: Progress) -> tuple[Surface, list[str]]:
    surface, remarks = read_surface(*split_band(source), progress=progress)
    if surface.frame.crs is None:
        remarks.append("No reference system is stated: distances are taken as metres.")
    return surface, remarks


def _write(outcome: Outcome, name: str, path: Path, progress: Progress | None) -> None:
    surface = as_kind(outcome.value, Surface)
    if path.suffix.lower() in mesh.ENDINGS:
        mesh.write_mesh(path, surface, name, progress)
        return
    write_surface(path, surface, name, progress, outcome.lineage)


def _parts(value: Surface) -> Parts:
    return {"frame": asdict(value.frame), "unit": asdict(value.unit), "quantity": value.quantity}, [
        value.values
    ]


def _restored(about: Mapping[str, Any], arrays: list[np.ndarray]) -> Surface:
    return Surface(arrays[0], Frame(**about["frame"]), Unit(**about["unit"]), about["quantity"])


def _facts(surface: Surface) -> list[tuple[str, str]]:
    """What a surface is, in words."""
    frame = surface.frame
    width, height = frame.cell_metres
    share = 1.0 - surface.valid_count / surface.values.size
    low, high = surface.range or (float("nan"), float("nan"))
    stated = surface.unit.key if surface.unit.kind != "unknown" else "not stated"
    return [
        ("Reference system", frame.system_name),
        ("Unit", stated.replace("_", " ")),
        ("Extent", extent_text(frame)),
        ("Cell", f"{width:.4g} × {height:.4g} m"),
        ("Rows × columns", f"{frame.rows:,} × {frame.cols:,}".replace(",", " ")),
        ("No data", f"{share:.1%}".replace("%", " %")),
        ("Range", f"{value_text(low, surface.unit)} to {value_text(high, surface.unit)}"),
    ]


def _part(value: Surface, rows: slice, cols: slice) -> Surface:
    return replace(value, values=value.values[rows, cols], frame=value.frame.part(rows, cols))


def _stand_in(source: str) -> tuple[Surface, str]:
    frame, said = frame_in(source)
    return Surface(np.zeros(frame.shape, np.float32), frame), said


def _tiled(
    path: Path, about: Mapping[str, Any], frame: Frame, dtype: np.dtype, name: str, lineage: str
) -> TiledFile:
    return begin_surface(path, frame, dtype, Unit(**about["unit"]), about["quantity"], name, lineage)


SURFACE = Kind(
    "surface",
    Surface,
    "a surface",
    ENDINGS,
    _read,
    _write,
    lambda v: f"{v.quantity} in {v.unit.key}; {frame_text(v.frame)}",
    _parts,
    _restored,
    cells=cells_of,
    part=_part,
    array=lambda v: v.values,
    facts=_facts,
    only_written=mesh.ENDINGS,
    losses=losses,
    sample="slope.tif",
    layer=coverage.add_surface,
    stand_in=_stand_in,
    tiled=_tiled,
)
