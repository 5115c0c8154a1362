"""A table as CSV with its data dictionary beside it: what each column means, its type, unit and reference
system, as metadata of the kind that W3C's *CSV on the Web* (2015) lays down: ``table.csv-metadata.json``.
"""

from __future__ import annotations

import json
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import numpy as np

from moss_step.formats.columns_csv import table_text
from moss_step.formats.whole import printable, write_text
from moss_step.model.fields import PLACES, meaning
from moss_step.model.frame import reference_system

AFTER = "-metadata.json"
"""What stands behind the name of a table in that of its dictionary."""
_TYPES = {"b": "boolean", "i": "integer", "u": "integer", "f": "number"}


def write_columns(
    path: Path,
    columns: Mapping[str, np.ndarray],
    symbols: Mapping[str, str],
    title: str = "",
    crs: str | None = None,
) -> None:
    """Write columns as CSV, and their dictionary beside it.

    ``symbols`` are units of columns, ``crs`` the system of those that hold coordinates.
    """
    types = {n: _TYPES.get(v.dtype.kind, "string") for n, v in columns.items()}
    write_described(path, table_text(columns), types, symbols, title, crs)


def write_described(
    path: Path,
    text: str,
    types: Mapping[str, str],
    symbols: Mapping[str, str],
    title: str = "",
    crs: str | None = None,
) -> None:
    """Write the CSV text of a table, and the dictionary of its columns beside it; ``types`` are datatypes of
    CSV on the Web.
    """
    # The older dictionary goes with the older table: after a kill there is none rather than a wrong one.
    write_text(path, text, lambda at: [f for f in (_beside(at),) if f.is_file()])
    said = dictionary(path.name, types, symbols, title, crs)
    write_text(_beside(path), f"{json.dumps(said, indent=2, ensure_ascii=False)}\n")


def _beside(path: Path) -> Path:
    return path.with_name(f"{path.name}{AFTER}")


def dictionary(
    file: str, types: Mapping[str, str], symbols: Mapping[str, str], title: str, crs: str | None
) -> dict[str, Any]:
    """The metadata of a table, as plain data."""
    system = None if crs is None else reference_system(crs)
    code = None if system is None else system.to_epsg()
    said: dict[str, Any] = {"@context": "http://www.w3.org/ns/csvw", "url": printable(file)}
    if title:
        said["dc:title"] = printable(title)
    if code is not None and any(n in PLACES for n in types):
        said["dc:conformsTo"] = f"http://www.opengis.net/def/crs/EPSG/0/{code}"
    columns = []
    for number, (name, kind) in enumerate(types.items(), 1):
        column: dict[str, Any] = {"name": f"column_{number}", "titles": printable(name), "datatype": kind}
        about = meaning(name)
        if system is not None and name in PLACES:
            about = f"{about.rstrip('.')}, in {system.name}{f' (EPSG:{code})' if code else ''}."
        if about:
            column["dc:description"] = about
        if symbols.get(name):
            column["schema:unitText"] = symbols[name]
        columns.append(column)
    said["tableSchema"] = {"columns": columns}
    return said
