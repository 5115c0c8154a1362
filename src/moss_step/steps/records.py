"""Records of a reckoning: what was asked and found, with the time, the surveys and the corners."""

from __future__ import annotations

import time
from collections.abc import Iterable, Sequence

import numpy as np
import shapely

from moss_step.model.findings import Finding
from moss_step.model.frame import reference_system
from moss_step.model.origin import origin_of
from moss_step.model.surface import Surface
from moss_step.model.table import Table
from moss_step.science.relief.profile import values_at
from moss_step.steps.declare import Inputs, Settings

Row = tuple[str, str, str]
"""What it is, value and unit."""
_MOST_CORNERS = 2000
"""Corners that a record lists; of more, all stand in the table of corners."""


def now() -> str:
    """The time of a reckoning: local, with its zone."""
    return time.strftime("%Y-%m-%d %H:%M:%S %z")


def record_table(asked: Sequence[Row], findings: Iterable[Finding], said: Iterable[str]) -> Table:
    """The time of the reckoning in local time with its zone, then what was asked (name, value and unit each),
    found and said.
    """
    rows = [("reckoned", now(), ""), *asked]
    rows += [(f.title.lower(), f"{float(f.value):.12g}", f.unit.symbol) for f in findings]
    rows += [("remark", text, "") for text in said]
    what, value, unit = (np.array(c, object) for c in zip(*rows, strict=True))
    return Table({"what": what, "value": value, "unit": unit})


def origin_rows(inputs: Inputs, titles: Iterable[tuple[str, str]]) -> list[Row]:
    """What inputs are called and the files behind them, for names with a title each."""
    rows: list[Row] = []
    for name, title in titles:
        origin = origin_of(inputs, name)
        if origin is not None:
            rows.append((title, origin.name, ""))
            rows += [(f"{title}, content of {file} (BLAKE3)", digest, "") for file, digest in origin.files]
    return rows


def frame_rows(surface: Surface) -> list[Row]:
    """Reference system, cells and unit of heights."""
    frame = surface.frame
    return [
        ("reference system", "not stated" if frame.crs is None else reference_system(frame.crs).name, ""),
        ("cell width", f"{frame.cell_metres[0]:.9g}", "m"),
        ("cell height", f"{frame.cell_metres[1]:.9g}", "m"),
        ("unit of heights", surface.unit.symbol, ""),
    ]


def setting_rows(settings: Settings, names: Iterable[str]) -> list[Row]:
    """Settings that are stated, as they were given."""
    listed, rows = type(settings).listed(), list[Row]()
    for name in names:
        value, extra = getattr(settings, name), listed[name].json_schema_extra
        if value is not None:
            unit = str(extra.get("unit", "")) if isinstance(extra, dict) else ""
            text = f"{value:.12g}" if isinstance(value, float) else str(value)
            rows.append((name.replace("_", " "), text, unit))
    return rows


def corner_rows(surface: Surface, areas: np.ndarray) -> list[Row]:
    """Each corner of outlines or lines with x, y and the height of the surface."""
    xy, owner = shapely.get_coordinates(areas, return_index=True)
    z = values_at(surface, xy[:, 0], xy[:, 1]).astype(np.float64)
    decimals, unit = surface.frame.decimals, surface.unit.symbol
    rows = [
        (f"corner {k + 1} of {of + 1}", f"{x:.{decimals}f} {y:.{decimals}f} {h:.6g}", f"x y z in {unit}")
        for k, ((x, y), of, h) in enumerate(zip(xy[:_MOST_CORNERS], owner, z, strict=False))
    ]
    if len(xy) > _MOST_CORNERS:
        rows.append(("corners", f"{len(xy)}, the first {_MOST_CORNERS} of them above", ""))
    return rows
