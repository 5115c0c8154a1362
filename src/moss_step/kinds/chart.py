"""Charts: curves with units, as CSV."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any

import numpy as np

from moss_step.formats import tables_more
from moss_step.formats.columns_csv import read_numbers
from moss_step.kinds.columns import (
    columns_from,
    table_columns,
    table_layer,
    table_parts,
    units_from,
    write_table,
)
from moss_step.kinds.kind import Kind, Parts
from moss_step.model.chart import Chart
from moss_step.model.progress import Progress


def _read(source: str, _: Progress) -> tuple[Chart, list[str]]:
    columns = read_numbers(Path(source))
    across, *up = columns
    return Chart(columns, {}, across, tuple(up)), ["Units are not stated in such a file."]


def _parts(value: Chart) -> Parts:
    about, arrays = table_parts(value)
    return {**about, "across": value.across, "up": list(value.up), "dots": list(value.dots)}, arrays


def _restored(about: Mapping[str, Any], arrays: list[np.ndarray]) -> Chart:
    over, up, dots = about["across"], tuple(about["up"]), tuple(about.get("dots", ()))
    return Chart(columns_from(about, arrays), units_from(about), over, up, dots, crs=about["crs"])


CHART = Kind(
    "chart",
    Chart,
    "a chart",
    (".csv",),
    _read,
    write_table,
    lambda v: f"{', '.join(v.up)} over {v.across} at {len(v):,} points",
    _parts,
    _restored,
    columns=table_columns,
    only_written=tables_more.ENDINGS,
    streamed=".csv",
    layer=table_layer,
)
