"""Columns as Parquet (with geometry: GeoParquet 1.1 of the OGC) and as a spreadsheet (Office Open XML,
ECMA-376).

Both are the same file whenever they are written. Text in a spreadsheet is text: nothing of it is ever a
formula.
"""

from __future__ import annotations

import io
import json
import re
import zipfile
from collections.abc import Mapping
from datetime import datetime
from pathlib import Path
from typing import Any

import numpy as np
import shapely

from moss_step.formats.whole import in_words, printable, whole_file
from moss_step.model.errors import MossError
from moss_step.model.fields import meaning
from moss_step.model.frame import reference_system
from moss_step.model.shapes import Shapes

PARQUET, WORKBOOK = ".parquet", ".xlsx"
ENDINGS = (PARQUET, WORKBOOK)
MOST_ROWS = 1_048_575
"""Rows of a spreadsheet below its head."""
_FREE = "The disk may be full. Free some space, or choose another."
_GEOMETRY = "geometry"
_PROPERTIES, _MODIFIED = "docProps/core.xml", re.compile(rb"(<dcterms:modified[^>]*>)[^<]*")
_WHEN, _ZIP_TIME = datetime(2026, 1, 1), (1980, 1, 1, 0, 0, 0)


def write_more(
    path: Path,
    columns: Mapping[str, np.ndarray],
    symbols: Mapping[str, str],
    title: str = "",
    shapes: Shapes | None = None,
) -> None:
    """Write columns whole or not at all; the ending chooses Parquet or a spreadsheet.

    ``symbols`` are units of columns; the geometry of ``shapes`` goes into a Parquet file, and not into a
    spreadsheet. Raises MossError when it cannot be written.
    """
    if path.suffix.lower() == PARQUET:
        _write_parquet(path, columns, symbols, shapes)
    else:
        _write_workbook(path, columns, symbols, title)


def _write_parquet(
    path: Path, columns: Mapping[str, np.ndarray], symbols: Mapping[str, str], shapes: Shapes | None
) -> None:
    import pyarrow as pa
    from pyarrow import parquet

    arrays, fields = [], []
    for name, values in columns.items():
        array = pa.array(values.tolist() if values.dtype.kind in "OU" else values)
        about = {"unit": symbols[name]} if symbols.get(name) else {}
        said = meaning(name)
        about |= {"description": said} if said else {}
        arrays.append(array)
        fields.append(pa.field(name, array.type, metadata=about or None))
    metadata: dict[str, str] = {}
    if shapes is not None:
        name = _free(_GEOMETRY, columns)
        arrays.append(pa.array(shapely.to_wkb(shapes.geometry, include_srid=False).tolist(), pa.binary()))
        fields.append(pa.field(name, pa.binary()))
        metadata["geo"] = json.dumps(_geo(name, shapes), sort_keys=True)
    table = pa.Table.from_arrays(arrays, schema=pa.schema(fields, metadata=metadata or None))
    with whole_file(path) as part, in_words(path, "written", _FREE):
        parquet.write_table(table, part, compression="zstd")


def _geo(name: str, shapes: Shapes) -> dict[str, Any]:
    """The metadata that GeoParquet asks for; a system of null is one that is not known."""
    system = None if shapes.crs is None else json.loads(reference_system(shapes.crs).to_json())
    kinds = sorted({g.geom_type for g in shapes.geometry if g is not None})
    column: dict[str, Any] = {"encoding": "WKB", "geometry_types": kinds, "crs": system}
    if shapes.box is not None:
        column["bbox"] = list(shapes.box)
    return {"version": "1.1.0", "primary_column": name, "columns": {name: column}}


def _free(name: str, taken: Mapping[str, Any]) -> str:
    return next(n for n in (name, *(f"{name}_{k}" for k in range(2, 999))) if n not in taken)


def _write_workbook(
    path: Path, columns: Mapping[str, np.ndarray], symbols: Mapping[str, str], title: str
) -> None:
    from openpyxl import Workbook

    rows = len(next(iter(columns.values()), ()))
    if rows > MOST_ROWS:
        raise MossError(
            f"{rows:,} rows are more than a spreadsheet holds ({MOST_ROWS:,}).",
            "Use the ending .csv or .parquet.",
        )
    book = Workbook(write_only=True)
    book.properties.created = book.properties.modified = _WHEN
    book.properties.creator, book.properties.title = "Moss Step", printable(title)[:200]
    sheet = book.create_sheet("Rows")
    sheet.append([_cell(sheet, name) for name in columns])
    for row in zip(*(v.tolist() for v in columns.values()), strict=True):
        sheet.append([_cell(sheet, value) for value in row])
    about = book.create_sheet("Columns")
    about.append(["Column", "Unit", "Meaning"])
    for name in columns:
        about.append(
            [_cell(about, name), _cell(about, symbols.get(name, "")), _cell(about, meaning(name) or "")]
        )
    with whole_file(path) as part, in_words(path, "written", _FREE):
        held = io.BytesIO()
        book.save(held)
        part.write_bytes(_undated(held.getvalue()))


def _cell(sheet: Any, value: Any) -> Any:
    """A value as a cell: text that begins like a formula stays text, and what is no number stays empty."""
    if isinstance(value, float):
        return value if np.isfinite(value) else None
    if isinstance(value, bool | int):
        return value
    from openpyxl.cell import WriteOnlyCell

    text = "".join(c for c in printable(str(value)) if c in "\t\n" or ord(c) >= 32)[:32_000]
    cell = WriteOnlyCell(sheet, value=text)
    cell.data_type = "s"
    return cell


def _undated(data: bytes) -> bytes:
    """A workbook without the time of writing, which the library puts into its properties, too."""
    out = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(data)) as old, zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as new:
        for name in old.namelist():
            info = zipfile.ZipInfo(name, _ZIP_TIME)
            info.compress_type = zipfile.ZIP_DEFLATED
            content = old.read(name)
            if name == _PROPERTIES:
                content = _MODIFIED.sub(rb"\g<1>" + _WHEN.strftime("%Y-%m-%dT%H:%M:%SZ").encode(), content)
            new.writestr(info, content)
    return out.getvalue()
