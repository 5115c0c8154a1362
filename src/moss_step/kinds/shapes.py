"""Shapes: points, lines and areas with a table, in the formats of the vector library, or typed as
coordinates.
"""

from __future__ import annotations

import itertools
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import numpy as np
import shapely

from moss_step.formats import shapefile, tables_more
from moss_step.formats.dictionary import write_columns
from moss_step.formats.vector import DRIVERS, read_shapes, split_layer, write_shapes
from moss_step.kinds.columns import column_parts, columns_from
from moss_step.kinds.kind import Columns, Kind, Parts
from moss_step.model.frame import reference_system
from moss_step.model.outcome import Outcome
from moss_step.model.progress import Progress
from moss_step.model.shapes import Shapes
from moss_step.model.typed import as_kind


def shapes_of(text: str) -> Shapes | None:
    """Shapes written as coordinates: points x,y;x,y or one line x1,y1,x2,y2; None for anything else.

    They lie in the system of whatever they are used with.
    """
    try:
        parts = [[float(v) for v in part.split(",")] for part in text.split(";") if part.strip()]
    except ValueError:
        return None
    if parts and all(len(p) == 2 for p in parts):
        return Shapes(np.array([shapely.Point(p) for p in parts], object))
    if len(parts) == 1 and len(parts[0]) == 4:
        return Shapes(np.array([shapely.LineString([parts[0][:2], parts[0][2:]])], object))
    return None


def _read(source: str, _: Progress) -> tuple[Shapes, list[str]]:
    typed = shapes_of(source)
    return (typed if typed is not None else read_shapes(*split_layer(source))), []


def _write(outcome: Outcome, name: str, path: Path, progress: Progress | None) -> None:
    value = as_kind(outcome.value, Shapes)
    ending = path.suffix.lower()
    if ending == ".csv":
        write_columns(path, *_columns(outcome), name, value.crs)
    elif ending in tables_more.ENDINGS:
        tables_more.write_more(path, *_columns(outcome), name, value)
    elif ending == shapefile.ENDING:
        shapefile.write_shapefile(path, value)
    else:
        write_shapes(path, value, about=name)


def _layer(package: Path, value: Shapes, layer: str, about: str) -> bool:
    write_shapes(package, value, layer, about)
    return True


def _losses(path: Path, value: Shapes) -> tuple[str, ...]:
    """What a Shapefile or a spreadsheet cannot say."""
    ending = path.suffix.lower()
    if ending == tables_more.WORKBOOK:
        return ("A spreadsheet holds the table of shapes, and not where they lie.",)
    return shapefile.losses(value) if ending == shapefile.ENDING else ()


def _parts(value: Shapes) -> Parts:
    texts = shapely.to_wkb(value.geometry, include_srid=False)
    ends = np.cumsum([len(t) for t in texts], dtype=np.int64)
    about, arrays = column_parts(value.columns)
    return {**about, "crs": value.crs, "symbols": dict(value.symbols)}, [
        np.frombuffer(b"".join(texts), np.uint8),
        ends,
        *arrays,
    ]


def _restored(about: Mapping[str, Any], arrays: list[np.ndarray]) -> Shapes:
    whole, ends = arrays[0].tobytes(), arrays[1].tolist()
    texts = [whole[a:b] for a, b in itertools.pairwise([0, *ends])]
    geometry = np.asarray(shapely.from_wkb(np.array(texts, object))) if texts else np.empty(0, object)
    return Shapes(geometry, columns_from(about, arrays[2:]), about["crs"], about["symbols"])


def _columns(outcome: Outcome) -> Columns:
    shapes = as_kind(outcome.value, Shapes)
    return dict(shapes.columns), {n: shapes.symbol(n) for n in shapes.columns}


def _facts(shapes: Shapes) -> list[tuple[str, str]]:
    """What a set of shapes is, in words."""
    system = reference_system(shapes.crs).name if shapes.crs else "none"
    columns = ", ".join(shapes.columns) or "none"
    return [("Shapes", shapes.count_text), ("Reference system", system), ("Columns", columns)]


def _stand_in(source: str) -> tuple[Shapes, str]:
    given = shapes_of(source)
    shapes = given if given is not None else read_shapes(*split_layer(source))
    return shapes, shapes.count_text


SHAPES = Kind(
    "shapes",
    Shapes,
    "shapes",
    (*DRIVERS, ".csv"),
    _read,
    _write,
    lambda v: f"{len(v):,} {v.kind}, {v.crs or 'no reference system'}",
    _parts,
    _restored,
    columns=_columns,
    facts=_facts,
    only_written=(shapefile.ENDING, *tables_more.ENDINGS),
    losses=_losses,
    streamed=".geojson",
    sample="areas.gpkg",
    layer=_layer,
    stand_in=_stand_in,
)
