"""Tables: columns with units, as CSV."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict
from pathlib import Path
from typing import Any, NoReturn

import numpy as np

from moss_step.formats.columns_csv import table_text
from moss_step.formats.whole import write_text
from moss_step.kinds.columns import column_parts, columns_from
from moss_step.kinds.kind import Columns, Kind, Parts
from moss_step.model.errors import AskedWronglyError
from moss_step.model.outcome import Outcome
from moss_step.model.progress import Progress
from moss_step.model.table import Table
from moss_step.model.typed import as_kind
from moss_step.model.units import Unit


def _read(source: str, _: Progress) -> NoReturn:
    raise AskedWronglyError(f"{source} cannot be read as a table yet.", "Open its places as shapes.")


def _write(outcome: Outcome, name: str, path: Path, progress: Progress | None) -> None:
    write_text(path, table_text(as_kind(outcome.value, Table).columns))


def _parts(value: Table) -> Parts:
    about, arrays = column_parts(value.columns)
    return {**about, "units": {n: asdict(u) for n, u in value.units.items()}}, arrays


def _made(about: Mapping[str, Any], arrays: list[np.ndarray]) -> Table:
    return Table(columns_from(about, arrays), {n: Unit(**u) for n, u in about["units"].items()})


def _columns(outcome: Outcome) -> Columns:
    table = as_kind(outcome.value, Table)
    return dict(table.columns), {n: table.unit(n).symbol for n in table.columns}


TABLE = Kind(
    "table", Table, "a table", (".csv",), _read, _write, lambda v: f"a table of {len(v):,} rows: {', '.join(v.columns)}", _parts, _made,
    columns=_columns,
)  # fmt: skip
