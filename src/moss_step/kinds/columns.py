"""Columns of shapes and tables as plain data and arrays."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict
from pathlib import Path
from typing import Any

import numpy as np

from moss_step.formats import tables_more
from moss_step.formats.columns_text import write_columns_text
from moss_step.formats.dictionary import write_columns
from moss_step.formats.vector import write_table_layer
from moss_step.kinds.kind import Columns, NotPlainError, Parts
from moss_step.model.outcome import Outcome
from moss_step.model.progress import Progress
from moss_step.model.table import Table
from moss_step.model.typed import as_kind
from moss_step.model.units import Unit


def table_columns(outcome: Outcome) -> Columns:
    """Columns of a table, or of a chart, with the symbols of their units."""
    table = as_kind(outcome.value, Table)
    return dict(table.columns), {n: table.unit(n).symbol for n in table.columns}


def write_table(outcome: Outcome, name: str, path: Path, progress: Progress | None) -> None:
    """Write a table, or a chart, as CSV with its dictionary; as text where the ending asks for that."""
    table = as_kind(outcome.value, Table)
    if path.suffix.lower() == ".txt":
        write_columns_text(path, table.columns, name)
        return
    if path.suffix.lower() in tables_more.ENDINGS:
        tables_more.write_more(path, *table_columns(outcome), name)
        return
    write_columns(path, *table_columns(outcome), name, table.crs)


def table_layer(package: Path, table: Table, layer: str, about: str) -> bool:
    """Add a table, or a chart, to a GeoPackage."""
    write_table_layer(package, table.columns, layer, about)
    return True


def units_from(about: Mapping[str, Any]) -> dict[str, Unit]:
    """Make units of what ``table_parts`` gave."""
    return {n: Unit(**u) for n, u in about["units"].items()}


def table_parts(table: Table) -> Parts:
    """Columns with their units as plain data and arrays."""
    about, arrays = column_parts(table.columns)
    return {**about, "units": {n: asdict(u) for n, u in table.units.items()}, "crs": table.crs}, arrays


def column_parts(columns: Mapping[str, np.ndarray]) -> Parts:
    """Columns of text and mixed ones as lists, the others as arrays.

    Raises NotPlainError for columns of anything else.
    """
    lists, arrays, order = {}, [], []
    for name, values in columns.items():
        if values.dtype.kind in "biuf":
            order.append(name)
            arrays.append(values)
        elif values.dtype.kind in "OU":
            lists[name] = values.tolist()
        else:
            raise NotPlainError(f"column {name} of {values.dtype}")
    return {"names": list(columns), "lists": lists, "arrays": order}, arrays


def columns_from(about: Mapping[str, Any], arrays: list[np.ndarray]) -> dict[str, np.ndarray]:
    """Make columns of what ``column_parts`` gave."""
    result = dict(zip(about["arrays"], arrays, strict=True))
    for name, values in about["lists"].items():
        result[name] = np.empty(len(values), object)
        result[name][:] = values
    return {name: result[name] for name in about["names"]}
