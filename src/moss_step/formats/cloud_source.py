"""Clouds from what a source names: a LAS or LAZ file, plain text, or a folder or pattern of several files."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np
import shapely

from moss_step.formats import xyz
from moss_step.formats.las import (
    ENDINGS,
    WHOLE,
    CloudFacts,
    NoPointsError,
    Wanted,
    describe,
    fill,
    kinds_of,
    opened,
    own_classes,
    read_cloud,
    read_sample,
)
from moss_step.formats.source import members
from moss_step.model.cloud import Cloud, CloudHead, joined, of_returns
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.frame import Box, Frame, overlap, reference_system
from moss_step.model.mapped import room_for, too_large
from moss_step.model.progress import Progress, silent
from moss_step.model.shapes import Shapes
from moss_step.model.units import PER_SQUARE_METRE

TILE = "tile"
"""Attribute of a cloud of several files: the number of the file, from 0."""
Tile = tuple[Path, CloudFacts]
_LARGE, _TASTED, _TASTE = 2_000_000, 16, 15_000
"""Points from which some are read first, from how many places these are, and how many at each."""


@dataclass(frozen=True, eq=False)
class CloudRead:
    """A cloud that was read, remarks, the files it came from with what their heads state, and the box that
    these state together; none for plain text.
    """

    cloud: Cloud
    remarks: tuple[str, ...]
    tiles: tuple[Tile, ...] = ()

    @property
    def box(self) -> Box | None:
        """The box that the heads state together."""
        if not self.tiles:
            return None
        boxes = np.array([facts.box for _, facts in self.tiles])
        return (*boxes[:, :2].min(axis=0).tolist(), *boxes[:, 2:].max(axis=0).tolist())


def read_source(source: str, wanted: Wanted = WHOLE, progress: Progress | None = None) -> CloudRead:
    """Read the cloud that a source names: a file, a folder, or a pattern such as ``tiles/*.laz``.

    Raises MossError for what cannot be read, and where a folder holds no clouds.
    """
    path = Path(source)
    files = members(path)
    if not files:
        raise AskedWronglyError(f"{path} holds no LAS or LAZ files.", "Choose another folder or pattern.")
    if len(files) == 1 and files[0].suffix.lower() not in ENDINGS:
        cloud = _of_text(files[0], wanted)
        return CloudRead(cloud, ("No reference system and no units are stated in plain text.",))
    tiles = [(file, describe(file)) for file in files]
    if len(tiles) == 1:
        cloud, remarks = read_cloud(files[0], wanted, progress)
    else:
        cloud, remarks = read_tiles(tiles, wanted, progress)
    cloud = replace(cloud, own=own_classes(files[0]))
    return CloudRead(cloud, tuple(remarks), tuple(tiles))


def read_foretaste(source: str) -> Cloud | None:
    """Some points of a large source at once, to be drawn while all are read; None where it is small.

    Raises MossError for what cannot be read.
    """
    files = members(Path(source))
    if not files or any(file.suffix.lower() not in ENDINGS for file in files):
        return None
    every = max(len(files) // _TASTED, 1)
    if sum(describe(file).count for file in files[::every]) * every < _LARGE:
        return None
    chosen = files[::every][:_TASTED]
    clouds = [read_sample(file, max(_TASTED // len(chosen), 1), _TASTE) for file in chosen]
    return joined(clouds)


def _of_text(path: Path, wanted: Wanted) -> Cloud:
    """A cloud of plain columns."""
    columns = xyz.read_points(path)
    x, y, z = (columns.pop(n) for n in "xyz")
    cloud = Cloud(x, y, z, columns)
    kept = np.arange(len(cloud)) % wanted.every == 0
    if wanted.box is not None:
        xmin, ymin, xmax, ymax = wanted.box
        kept &= (x >= xmin) & (x <= xmax) & (y >= ymin) & (y <= ymax)
    if wanted.classes:
        kept &= np.isin(columns.get("classification", np.zeros(len(cloud))), wanted.classes)
    if wanted.returns != "all" and {"return_number", "number_of_returns"} <= columns.keys():
        number, of = columns["return_number"], columns["number_of_returns"]
        kept &= of_returns(wanted.returns, number, of)
    if not kept.any():
        raise NoPointsError("No point is left of the cloud.", "Take a larger box, other returns or classes.")
    return cloud if kept.all() else cloud.part(kept)


def tile_shapes(tiles: tuple[Tile, ...]) -> Shapes:
    """The boxes that the heads of files state, with their names, points and points a square metre."""
    boxes = np.array([facts.box for _, facts in tiles])
    count = np.array([facts.count for _, facts in tiles], np.int64)
    crs = tiles[0][1].crs
    area = np.array([_square_metres(facts.box, crs) for _, facts in tiles])
    columns = {
        "tile": np.arange(len(tiles), dtype=np.int32),
        "name": np.array([path.name for path, _ in tiles], object),
        "points": count,
        "density": count / area,
        "lowest": np.array([facts.heights[0] for _, facts in tiles]),
        "highest": np.array([facts.heights[1] for _, facts in tiles]),
    }
    symbol = tiles[0][1].unit.symbol
    return Shapes(
        np.asarray(shapely.box(*boxes.T)),
        columns,
        crs,
        {"lowest": symbol, "highest": symbol, "density": PER_SQUARE_METRE.symbol},
    )


def _square_metres(box: Box, crs: str | None) -> float:
    """Ground of a box; of one without extent next to none."""
    wide, high = (max(box[k + 2] - box[k], 1e-9) for k in (0, 1))
    return float(Frame(1, 1, box[0], box[3], wide, high, crs).row_areas[0])


def read_tiles(
    tiles: list[tuple[Path, CloudFacts]], wanted: Wanted = WHOLE, progress: Progress | None = None
) -> tuple[Cloud, list[str]]:
    """Read several files as one cloud, each point with the number of its file as ``tile``; and remarks.

    Files outside the box that is wanted are not opened. Raises MossError for files in several systems or
    units, and where no point is left.
    """
    progress = progress or silent()
    first = tiles[0][1]
    for path, facts in tiles:
        if facts.unit != first.unit or not _same_system(facts.crs, first.crs):
            raise MossError(
                f"{path.name} lies in another reference system or unit than {tiles[0][0].name}.",
                "Open them apart, and reproject one.",
            )
    numbered = [
        (k, *tile) for k, tile in enumerate(tiles) if wanted.box is None or overlap(wanted.box, tile[1].box)
    ]
    if not numbered:
        raise MossError("No file meets the box.", "Take a larger box.")
    remarks = list(dict.fromkeys(r for _, _, f in numbered for r in f.remarks))
    if wanted != WHOLE:
        return _joined_tiles(numbered, wanted, progress), remarks
    kinds = [_kinds_in(path) for _, path, _ in numbered]
    shared = {n: k for n, k in kinds[0].items() if all(n in other for other in kinds)}
    if left := sorted({n for k in kinds for n in k} - set(shared)):
        remarks.append(f"Not in every file, and left out: {', '.join(left)}.")
    count = sum(f.count for _, _, f in numbered)
    mapped = too_large(count * sum(k.itemsize for k in shared.values()))
    columns = {n: room_for(count, k, mapped) for n, k in shared.items()}
    columns[TILE] = room_for(count, np.uint16, mapped)
    at = 0
    for k, (number, path, facts) in enumerate(numbered):
        part = progress.part(k / len(numbered), (k + 1) / len(numbered))
        with opened(path) as reader:
            fill(path, reader, facts, columns, at, part)
        columns[TILE][at : at + facts.count] = number
        at += facts.count
    x, y, z = (columns.pop(n) for n in "xyz")
    return Cloud(x, y, z, columns, first.crs, first.unit, _head_for(first.head, shared)), remarks


def _joined_tiles(numbered: list[tuple[int, Path, CloudFacts]], wanted: Wanted, progress: Progress) -> Cloud:
    """The points that are wanted of several files."""
    clouds = []
    for k, (number, path, _) in enumerate(numbered):
        part = progress.part(k / len(numbered), (k + 1) / len(numbered))
        try:
            cloud = read_cloud(path, wanted, part)[0]
        except NoPointsError:
            continue
        tile = np.full(len(cloud), number, np.uint16)
        clouds.append(replace(cloud, attributes={**cloud.attributes, TILE: tile}))
    if not clouds:
        raise NoPointsError("No point is left of the cloud.", "Take a larger box, other returns or classes.")
    return joined(clouds)


def _kinds_in(path: Path) -> dict[str, np.dtype]:
    with opened(path) as reader:
        return kinds_of(reader)


def _head_for(head: CloudHead, shared: Mapping[str, Any]) -> CloudHead:
    """A head without the extra attributes that not every file has."""
    return replace(head, extra=tuple(e for e in head.extra if e.name in shared))


def _same_system(one: str | None, other: str | None) -> bool:
    if one is None or other is None:
        return one is other
    return one == other or reference_system(one) == reference_system(other)
