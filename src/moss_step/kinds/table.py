"""Tables: columns with units, as CSV or text."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, NoReturn

import numpy as np

from moss_step.formats import tables_more
from moss_step.kinds.columns import (
    columns_from,
    table_columns,
    table_layer,
    table_parts,
    units_from,
    write_table,
)
from moss_step.kinds.kind import Kind
from moss_step.model.errors import AskedWronglyError
from moss_step.model.progress import Progress
from moss_step.model.table import Table


def _read(source: str, _: Progress) -> NoReturn:
    raise AskedWronglyError(f"{source} cannot be read as a table yet.", "Open its places as shapes.")


def _restored(about: Mapping[str, Any], arrays: list[np.ndarray]) -> Table:
    return Table(columns_from(about, arrays), units_from(about), crs=about["crs"])


TABLE = Kind(
    "table",
    Table,
    "a table",
    (".csv", ".txt"),
    _read,
    write_table,
    lambda v: f"a table of {len(v):,} rows: {', '.join(v.columns)}",
    table_parts,
    _restored,
    columns=table_columns,
    only_written=tables_more.ENDINGS,
    streamed=".csv",
    layer=table_layer,
)
