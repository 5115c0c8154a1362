"""Grids of one ground in many files, which a folder or a pattern names: one virtual grid over all of them."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from xml.etree import ElementTree

import numpy as np

from moss_step.formats.raster_facts import RasterFacts
from moss_step.model.errors import MossError
from moss_step.model.frame import same_system

_NEAR = 0.01
"""Share of a cell that tiles may lie beside the cells of the first."""
_MOST = 10_000
"""Files that are taken as one grid."""
_TYPES = {
    "uint8": "Byte", "int8": "Int8", "uint16": "UInt16", "int16": "Int16", "uint32": "UInt32",
    "int32": "Int32", "float32": "Float32", "float64": "Float64",
}  # fmt: skip
"""Types of values as the raster library names them in a virtual grid."""
_WIDER = dict.fromkeys(("uint8", "int8", "uint16", "int16"), "float32") | dict.fromkeys(
    ("uint32", "int32"), "float64"
)
"""Types that hold all values of whole ones, and one that none of them is."""


def virtual_text(named: Path, tiles: Sequence[RasterFacts], tags: dict[str, str]) -> str:
    """A virtual grid over some tiles, with tags for its band. Where tiles overlap, the last one stands; where
    there is none, nothing does.

    Raises MossError that names the first tile which does not go with the others.
    """
    if len(tiles) > _MOST:
        raise MossError(f"{named} holds {len(tiles):,} grids, and {_MOST:,} are possible.", "Take a part.")
    first = tiles[0]
    for tile in tiles:
        why = _apart(first, tile)
        if why:
            raise MossError(
                f"{tile.path} does not go with {first.path.name}: {why}.", "Take it out, or bring it there."
            )
    places = np.array([_place(first, tile) for tile in tiles])
    left, top = places[:, 0].min(), places[:, 1].min()
    wide, high = (places[:, k] + [(t.cols, t.rows)[k] for t in tiles] for k in (0, 1))
    root = ElementTree.Element(
        "VRTDataset", rasterXSize=str(wide.max() - left), rasterYSize=str(high.max() - top)
    )
    if first.crs is not None:
        ElementTree.SubElement(root, "SRS").text = first.crs
    t = first.transform
    corner = t.c + left * t.a, t.a, 0.0, t.f + top * t.e, 0.0, t.e
    ElementTree.SubElement(root, "GeoTransform").text = ", ".join(repr(float(v)) for v in corner)
    dtype, blank = _blank(tiles)
    band = ElementTree.SubElement(root, "VRTRasterBand", dataType=_TYPES[dtype], band="1")
    said = ElementTree.SubElement(band, "Metadata")
    for key, value in tags.items():
        ElementTree.SubElement(said, "MDI", key=key).text = value
    for name, text in (
        ("NoDataValue", repr(blank)),
        ("UnitType", first.unit_text),
        ("Offset", repr(first.offset)),
        ("Scale", repr(first.scale)),
    ):
        ElementTree.SubElement(band, name).text = text
    for tile, (col, row) in zip(tiles, places.tolist(), strict=True):
        _add(band, tile, col - left, row - top)
    return ElementTree.tostring(root, encoding="unicode")


def _apart(first: RasterFacts, tile: RasterFacts) -> str:
    """Why a tile is no part of the grid of the first one; empty where it is."""
    t, o = tile.transform, first.transform
    if tile.bands != 1:
        return f"it has {tile.bands} bands"
    if tile.dtype not in _TYPES or tile.dtype != first.dtype:
        return f"its values are {tile.dtype}, not {first.dtype}"
    if t.a <= 0 or t.e >= 0 or t.b or t.d:
        return "its rows do not run east, from north to south"
    if not same_system(tile.crs, first.crs):
        return "it lies in another reference system"
    if abs(t.a / o.a - 1.0) > 1e-6 or abs(t.e / o.e - 1.0) > 1e-6:
        return f"its cells are {t.a:g} by {-t.e:g}, not {o.a:g} by {-o.e:g}"
    if (tile.scale, tile.offset, tile.unit_text) != (first.scale, first.offset, first.unit_text):
        return "its values have another unit or scale"
    off = (t.c - o.c) / o.a, (t.f - o.f) / o.e
    if any(abs(v - round(v)) > _NEAR for v in off):
        return "its cells do not lie on those of the first"
    return ""


def _place(first: RasterFacts, tile: RasterFacts) -> tuple[int, int]:
    """Column and row of a tile's corner, from the corner of the first."""
    t, o = tile.transform, first.transform
    return round((t.c - o.c) / o.a), round((t.f - o.f) / o.e)


def _blank(tiles: Sequence[RasterFacts]) -> tuple[str, float | int]:
    """The type of the whole, and what stands where there is no tile or a tile has no value: what all take for
    no-data, or a number that none of them can hold, as that of one tile may be a height in another.
    """
    first = tiles[0]
    if first.dtype not in _WIDER:
        return first.dtype, float("nan")
    stated, bounds = {t.no_data for t in tiles}, np.iinfo(first.dtype)
    one = stated.pop() if len(stated) == 1 else None
    if one is not None and float(one).is_integer() and bounds.min <= one <= bounds.max:
        return first.dtype, int(one)
    return _WIDER[first.dtype], float("nan")


def _add(band: ElementTree.Element, tile: RasterFacts, col: int, row: int) -> None:
    """A tile with its own no-data and mask."""
    source = ElementTree.SubElement(band, "ComplexSource")
    ElementTree.SubElement(source, "SourceFilename", relativeToVRT="0").text = str(tile.path.absolute())
    ElementTree.SubElement(source, "SourceBand").text = "1"
    for name, x, y in (("SrcRect", 0, 0), ("DstRect", col, row)):
        box = {"xOff": x, "yOff": y, "xSize": tile.cols, "ySize": tile.rows}
        ElementTree.SubElement(source, name, {k: str(v) for k, v in box.items()})
    if tile.no_data is not None:
        ElementTree.SubElement(source, "NODATA").text = repr(tile.no_data)
    else:
        ElementTree.SubElement(source, "UseMaskBand").text = "true"
