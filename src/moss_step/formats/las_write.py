"""Writing clouds as LAS and LAZ (ASPRS LAS 1.4 R15), through laspy and lazrs."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace
from datetime import UTC, date, datetime
from pathlib import Path
from typing import Any

import numpy as np

from moss_step import __version__
from moss_step.formats.las import LOOKUP, PLACES
from moss_step.formats.whole import in_words, printable, whole_file
from moss_step.model.cloud import CHUNK, Cloud, CloudHead, ExtraField, PointClass
from moss_step.model.errors import MossError
from moss_step.model.frame import reference_system
from moss_step.model.progress import Progress, silent


def write_cloud(path: Path, cloud: Cloud, progress: Progress | None = None, made: date | None = None) -> None:
    """Write a cloud as LAS or, by its ending, LAZ: whole or not at all, every attribute kept.

    Points that came from a file stand as they stood there; others are written in format 6 or, with colours,
    7, to the millimetre. Attributes that no format has are extra ones. The day when the file was ``made`` is
    today where none is given.
    """
    import laspy  # loaded where it is used: it takes a while

    progress = progress or silent()
    header = _header_for(cloud)
    header.creation_date = made or datetime.now(UTC).date()
    with whole_file(path) as temporary, in_words(path, "written as a point cloud", "The disk may be full."):
        packed = path.suffix.lower() == ".laz"
        with laspy.open(temporary, mode="w", header=header, do_compress=packed) as writer:
            for first, last in progress.blocks(len(cloud), CHUNK, f"Writing {path.name}"):
                writer.write_points(_points(cloud.part(slice(first, last)), header))
        with laspy.open(temporary) as again:
            if again.header.point_count != len(cloud):
                raise MossError(f"{path} could not be written whole.", "The disk may be full.")


def _header_for(cloud: Cloud) -> Any:
    import laspy  # loaded where it is used: it takes a while

    head = cloud.head or _new_head(cloud)
    header = laspy.LasHeader(point_format=head.point_format, version=head.version)
    header.scales, header.offsets = np.array(head.scales), np.array(head.offsets)
    header.system_identifier = printable(head.system)[:32]
    header.generating_software = f"Moss Step {__version__}"
    for record in head.records:
        if (record.user, record.number) == LOOKUP:
            continue
        if record.user != "LASF_Projection" or cloud.crs == head.crs:
            header.vlrs.append(laspy.VLR(record.user, record.number, record.description, record.content))
    if cloud.own:
        header.vlrs.append(laspy.VLR(*LOOKUP, "Names of classes", _lookup(cloud.own)))
    if cloud.crs is not None and cloud.crs != head.crs:
        header.add_crs(reference_system(cloud.crs))
    elif head.wkt:
        header.global_encoding.wkt = True
    known = {*header.point_format.dimension_names}
    told = {e.name: e for e in head.extra}
    for name, values in cloud.attributes.items():
        if name not in known:
            extra = told.get(name) or ExtraField(printable(name)[:32], str(values.dtype))
            header.add_extra_dim(
                laspy.ExtraBytesParams(
                    extra.name,
                    _storable(extra.type),
                    extra.description[:32],
                    None if extra.offsets is None else np.array(extra.offsets),
                    None if extra.scales is None else np.array(extra.scales),
                )
            )
    return header


def _lookup(classes: Sequence[PointClass]) -> bytes:
    """A code and a description of 15 bytes for each class (ASPRS LAS 1.4 R15, 2.8)."""
    names = ["".join(c if " " <= c <= "~" else "?" for c in one.name)[:15] for one in classes]
    texts = [name.encode("ascii").ljust(15, b"\0") for name in names]
    return b"".join(bytes([one.code]) + text for one, text in zip(classes, texts, strict=True))


def _storable(kind: str) -> str:
    return "uint8" if kind == "bool" else kind


def _new_head(cloud: Cloud) -> CloudHead:
    box, heights = cloud.bounds or ((0.0, 0.0, 0.0, 0.0), (0.0, 0.0))
    colored = {"red", "green", "blue"} <= cloud.attributes.keys()
    geographic = cloud.crs is not None and reference_system(cloud.crs).is_geographic
    fine = 1e-7 if geographic else 1e-3
    offsets = (math.floor(box[0]), math.floor(box[1]), math.floor(heights[0]))
    return CloudHead("1.4", 7 if colored else 6, (fine, fine, 1e-3), offsets)


def _points(cloud: Cloud, header: Any) -> Any:
    import laspy  # loaded where it is used: it takes a while

    record = laspy.ScaleAwarePointRecord.zeros(len(cloud), header=header)
    for axis, values in zip(PLACES, (cloud.x, cloud.y, cloud.z), strict=True):
        k = PLACES.index(axis)
        whole = np.round((np.asarray(values) - header.offsets[k]) / header.scales[k])
        if not (np.abs(whole) < 2**31).all():
            raise MossError("Some points lie too far away for the file's scale.", "Cut them off first.")
        record[axis] = whole.astype(np.int32)
    for name, values in cloud.attributes.items():
        record[printable(name)[:32]] = values
    return record


def with_classes(cloud: Cloud, codes: np.ndarray) -> Cloud:
    """The cloud with other classes; the format is one that holds them."""
    head = cloud.head
    if head is not None and head.point_format < 6 and codes.size and int(codes.max()) > 31:
        newer = {0: 6, 1: 6, 2: 7, 3: 7, 4: 9, 5: 10}[head.point_format]
        head = replace(head, point_format=newer, version="1.4")
    return replace(
        cloud, attributes={**cloud.attributes, "classification": codes.astype(np.uint8)}, head=head
    )
