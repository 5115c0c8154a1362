"""Charts: curves with units, as CSV."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict
from pathlib import Path
from typing import Any

import numpy as np

from moss_step.formats.columns_csv import read_numbers, table_text
from moss_step.formats.whole import write_text
from moss_step.kinds.columns import column_parts, columns_from
from moss_step.kinds.kind import Columns, Kind, Parts
from moss_step.model.chart import Chart
from moss_step.model.outcome import Outcome
from moss_step.model.progress import Progress
from moss_step.model.typed import as_kind
from moss_step.model.units import Unit


def _read(source: str, _: Progress) -> tuple[Chart, list[str]]:
    columns = read_numbers(Path(source))
    across, *up = columns
    return Chart(columns, {}, across, tuple(up)), ["Units are not stated in such a file."]


def _write(outcome: Outcome, name: str, path: Path, progress: Progress | None) -> None:
    write_text(path, table_text(as_kind(outcome.value, Chart).columns))


def _parts(value: Chart) -> Parts:
    about, arrays = column_parts(value.columns)
    return {**about, "units": {n: asdict(u) for n, u in value.units.items()}, "across": value.across, "up": list(value.up)}, arrays


def _made(about: Mapping[str, Any], arrays: list[np.ndarray]) -> Chart:
    units = {n: Unit(**u) for n, u in about["units"].items()}
    return Chart(columns_from(about, arrays), units, about["across"], tuple(about["up"]))


def _columns(outcome: Outcome) -> Columns:
    chart = as_kind(outcome.value, Chart)
    return dict(chart.columns), {n: chart.unit(n).symbol for n in chart.columns}


CHART = Kind(
    "chart", Chart, "a chart", (".csv",), _read, _write, lambda v: f"{', '.join(v.up)} over {v.across} at {len(v):,} points", _parts, _made,
    columns=_columns,
)  # fmt: skip
