"""Ridges and valleys as lines, from the topology of the flow: valleys collect water, ridges collect it upside down."""

from __future__ import annotations

from dataclasses import replace
from typing import Literal

import numpy as np
import shapely

from moss_step.model.errors import MossError
from moss_step.model.progress import Progress, silent
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.science.relief.gradient import slope as derive_slope
from moss_step.science.water.drainage import Drainage, prepare
from moss_step.science.water.network import Network, network, stream_cells, stream_lines

Which = Literal["ridges", "valleys", "both"]
_REACH = 3


def ridges_and_valleys(dem: Surface, which: Which = "both", detail: float = 20_000.0, progress: Progress | None = None) -> Shapes:
    """All ridge and valley lines that at least ``detail`` square metres drain to, on the ground or on the ground turned over.

    Columns: kind, length_m, steepness_deg (how steeply the ground leaves the line on both sides, over three cells), mean_slope_deg
    along it, order (Strahler). Ridges are the channels of the inverted ground: Peucker & Douglas 1975, CGIP 4, by flow.
    """
    progress = progress or silent()
    steep = derive_slope(dem, "degrees").values
    parts: list[Shapes] = []
    for kind in ("valleys", "ridges"):
        if which not in (kind, "both"):
            continue
        progress.at(0.1 if kind == "valleys" else 0.5, f"Finding {kind}")
        ground = dem if kind == "valleys" else replace(dem, values=_turned(dem.values))
        drainage = prepare(ground, progress)
        try:
            found = network(drainage, stream_cells(drainage, detail))
        except MossError:
            continue  # the other kind may still be there
        parts.append(_lines(drainage, found, dem, steep, kind[:-1]))
    if not parts:
        raise MossError("No ridge or valley has as much ground.", "Ask for more detail: a smaller area.")
    columns = {n: np.concatenate([p.columns[n] for p in parts]) for n in parts[0].columns}
    columns["line"] = np.arange(1, len(columns["kind"]) + 1)
    return Shapes(np.concatenate([p.geometry for p in parts]), columns, dem.frame.crs, parts[0].symbols)


def _turned(values: np.ndarray) -> np.ndarray:
    turned: np.ndarray = -values
    turned.flags.writeable = False
    return turned


def _lines(drainage: Drainage, found: Network, dem: Surface, steep: np.ndarray, kind: str) -> Shapes:
    lines = stream_lines(drainage, found)
    sides = [_side_steepness(dem, cells, 1.0 if kind == "valley" else -1.0) for cells in found.cells]
    columns: dict[str, np.ndarray] = {
        "line": np.arange(1, len(lines) + 1), "kind": np.full(len(lines), kind, object), "length_m": lines.columns["length_m"],
        "steepness_deg": np.array(sides), "mean_slope_deg": np.array([np.nanmean(steep.reshape(-1)[c]) for c in found.cells]),
        "order": found.strahler,
    }  # fmt: skip
    return Shapes(lines.geometry, columns, lines.crs, {"steepness_deg": "°", "mean_slope_deg": "°"})


def _side_steepness(dem: Surface, cells: np.ndarray, sign: float) -> float:
    """Mean angle at which the ground rises (or falls, for ridges) from a line to both sides, square to its run."""
    frame = dem.frame
    rows, cols = np.divmod(cells, frame.cols)
    dr, dc = np.gradient(rows.astype(float)), np.gradient(cols.astype(float))
    norm = np.maximum(np.hypot(dr, dc), 1e-9)
    width, height = frame.cell_metres
    rises = []
    for side in (-_REACH, _REACH):
        i = np.clip(np.rint(rows + side * dc / norm), 0, frame.rows - 1).astype(int)
        j = np.clip(np.rint(cols - side * dr / norm), 0, frame.cols - 1).astype(int)
        away = np.maximum(np.hypot((i - rows) * height, (j - cols) * width), 1e-9)
        rises.append(sign * (dem.values[i, j] - dem.values[rows, cols]) * dem.metres_per_height / away)
    rise = np.nanmean(rises) if np.isfinite(rises).any() else 0.0
    return float(np.degrees(np.arctan(rise)))


def strong_enough(lines: Shapes, least_length: float, least_steepness: float) -> np.ndarray:
    """Rows of the lines that are as long (metres) and as steep to their sides (degrees) as asked for."""
    return np.flatnonzero((lines.columns["length_m"] >= least_length) & (lines.columns["steepness_deg"] >= least_steepness))


def kept_lines(lines: Shapes, rows: np.ndarray) -> Shapes:
    """Some of the lines, numbered anew."""
    columns = {n: v[rows] for n, v in lines.columns.items()} | {"line": np.arange(1, len(rows) + 1)}
    return replace(lines, geometry=lines.geometry[rows], columns=columns)


def total_length(lines: Shapes) -> float:
    """Length of all lines in metres."""
    return float(lines.columns["length_m"].sum()) if len(lines) else float(shapely.length(lines.geometry).sum())
