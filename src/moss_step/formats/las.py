"""Clouds in LAS and LAZ files (ASPRS LAS 1.0 to 1.4), COPC among them, through laspy and lazrs."""

from __future__ import annotations

import math
import struct
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import numpy as np

from moss_step import __version__
from moss_step.formats.whole import check_readable, in_words, printable, whole_file
from moss_step.model.cloud import CHUNK, Cloud, CloudHead, ExtraField, Record
from moss_step.model.errors import MossError
from moss_step.model.frame import Box, reference_system
from moss_step.model.memory import check_memory
from moss_step.model.progress import Progress, silent
from moss_step.model.units import FOOT, METRE, UNKNOWN, US_FOOT, Unit, unit_named

ENDINGS = (".laz", ".las")
_LEAST_BYTES = 0.25
"""Bytes that a point takes at the least in a compressed file: a head that claims more points is wrong."""
_PLACES = ("X", "Y", "Z")
_OWN = {"laszip encoded", "copc"}
"""Users of records that belong to the packing of a file, and not to its points."""
_MODEL, _VERTICAL_UNIT = 3072, 4099
"""Keys of the projected system and of the unit of heights (OGC GeoTIFF 1.1)."""
_KEY_UNITS = {9001: METRE, 9002: FOOT, 9003: US_FOOT}


@dataclass(frozen=True)
class Wanted:
    """Which points are read: inside a box, of some returns or classes, and one in ``every``."""

    box: Box | None = None
    returns: str = "all"
    classes: tuple[int, ...] = ()
    every: int = 1


@dataclass(frozen=True)
class CloudFacts:
    """What a file states of itself: points that its head counts, their box, its system and its units."""

    count: int
    box: Box
    heights: tuple[float, float]
    head: CloudHead
    crs: str | None
    unit: Unit
    remarks: tuple[str, ...] = ()
    bytes_a_point: int = field(default=0)


def describe(path: Path) -> CloudFacts:
    """Read the head of a file.

    Raises MossError when it is none of ours, damaged, or claims more points than the file can hold.
    """
    with _opened(path) as reader:
        return _facts(path, reader)


WHOLE = Wanted()


def read_cloud(
    path: Path, wanted: Wanted = WHOLE, progress: Progress | None = None
) -> tuple[Cloud, list[str]]:
    """Read the points that are wanted, with every attribute; and remarks.

    Raises MossError for files that cannot be read whole, or do not fit in memory.
    """
    progress = progress or silent()
    with _opened(path) as reader:
        facts = _facts(path, reader)
        if wanted == WHOLE:
            return _whole(path, reader, facts, progress), list(facts.remarks)
        parts: list[dict[str, np.ndarray]] = []
        read = 0
        for points in _chunks(path, reader, wanted):
            progress.at(min(read / max(facts.count, 1), 1.0), "Reading points")
            kept = _wanted(points, read, wanted)
            read += len(points)
            if kept.any():
                parts.append(_columns(points, slice(None) if kept.all() else kept))
        columns = _joined(parts, facts)
    x, y, z = (columns.pop(n) for n in "xyz")
    return Cloud(x, y, z, columns, facts.crs, facts.unit, facts.head), list(facts.remarks)


def _whole(path: Path, reader: Any, facts: CloudFacts, progress: Progress) -> Cloud:
    """All points, read into arrays of their number: nothing is copied twice."""
    need = facts.count * facts.bytes_a_point
    check_memory(need, f"A cloud of {facts.count:,} points", "Read a part of it with box= or every=.")
    columns: dict[str, np.ndarray] = {}
    read = 0
    for points in _chunks(path, reader, WHOLE):
        progress.at(min(read / facts.count, 1.0), "Reading points")
        to = slice(read, read + len(points))
        for name, values in _views(points):
            if name not in columns:
                columns[name] = np.empty(facts.count, values.dtype)
            columns[name][to] = values[: facts.count - read]
        read += len(points)
    if read != facts.count:
        raise MossError(
            f"{path} holds {read:,} points, and its head says {facts.count:,}.", "Fetch or copy it again."
        )
    x, y, z = (columns.pop(n) for n in "xyz")
    return Cloud(x, y, z, columns, facts.crs, facts.unit, facts.head)


def _views(points: Any) -> Iterator[tuple[str, np.ndarray]]:
    """Coordinates and attributes of some points, by name."""
    for axis in "xyz":
        yield axis, np.asarray(getattr(points, axis))
    for name in points.point_format.dimension_names:
        if name not in _PLACES:
            yield name, np.asarray(points[name])


@contextmanager
def _opened(path: Path) -> Iterator[Any]:
    import laspy  # loaded where it is used: it takes a while

    check_readable(path)
    _check_head(path)
    with _guarded(path):
        reader = laspy.open(path)
    with reader:
        yield reader


def _check_head(path: Path) -> None:
    """Hold what the public head claims against the size of the file: the library believes it.

    Places and sizes of its fields: LAS specification 1.4 R15, table 2; 54 and 60 bytes are the least that a
    record takes, and an extended one.
    """
    with path.open("rb") as file:
        head = file.read(375)
    if head[:4] != b"LASF":
        raise MossError(f"{path} is no LAS or LAZ file.", "Fetch it again, or open it as a table.")
    if len(head) < 227:
        raise _damaged(path)
    size, minor = path.stat().st_size, head[25]
    head_size, points_at, records = struct.unpack_from("<HII", head, 94)
    wrong = head_size < 227 or points_at > size or points_at < head_size + records * 54
    if minor >= 4 and len(head) >= 247:
        extended_at, extended = struct.unpack_from("<QI", head, 235)
        wrong |= extended > 0 and extended_at + extended * 60 > size
    if wrong:
        raise _damaged(path)


@contextmanager
def _guarded(path: Path) -> Iterator[None]:
    """Say in words what the library stumbles on; its decoder panics, which is no ordinary exception."""
    try:
        yield
    except (MossError, MemoryError):
        raise
    except Exception as error:
        raise _damaged(path) from error
    except BaseException as error:
        if type(error).__name__ != "PanicException":
            raise
        raise _damaged(path) from error


def _damaged(path: Path) -> MossError:
    return MossError(f"{path} cannot be read: it is cut short or damaged.", "Fetch or copy it again.")


def _chunks(path: Path, reader: Any, wanted: Wanted) -> Iterator[Any]:
    """The points in parts; of a COPC file only those near the box."""
    import laspy  # loaded where it is used: it takes a while
    from laspy.copc import Bounds

    with _guarded(path):
        if wanted.box is not None and path.name.lower().endswith(".copc.laz"):
            xmin, ymin, xmax, ymax = wanted.box
            with laspy.CopcReader.open(path) as copc:
                yield copc.query(bounds=Bounds(np.array([xmin, ymin]), np.array([xmax, ymax])))
            return
        yield from reader.chunk_iterator(CHUNK)


def _wanted(points: Any, before: int, wanted: Wanted) -> np.ndarray:
    """Which points of a part are kept."""
    kept = np.ones(len(points), bool)
    if wanted.every > 1:
        kept &= (np.arange(before, before + len(points)) % wanted.every) == 0
    if wanted.box is not None:
        x, y = np.asarray(points.x), np.asarray(points.y)
        xmin, ymin, xmax, ymax = wanted.box
        kept &= (x >= xmin) & (x <= xmax) & (y >= ymin) & (y <= ymax)
    if wanted.classes:
        kept &= np.isin(np.asarray(points.classification), wanted.classes)
    if wanted.returns != "all":
        number, of = np.asarray(points.return_number), np.asarray(points.number_of_returns)
        kept &= {"first": number <= 1, "last": number >= of, "only": of <= 1}[wanted.returns]
    return kept


def _columns(points: Any, kept: slice | np.ndarray) -> dict[str, np.ndarray]:
    return {name: np.array(values[kept]) for name, values in _views(points)}


def _joined(parts: list[dict[str, np.ndarray]], facts: CloudFacts) -> dict[str, np.ndarray]:
    """All parts one after another; each is let go as it is copied."""
    if not parts:
        raise MossError("No point is left of the cloud.", "Take a larger box, other returns or classes.")
    count = sum(len(p["x"]) for p in parts)
    check_memory(
        count * facts.bytes_a_point, f"A cloud of {count:,} points", "Read a part of it with box= or every=."
    )
    result = {}
    for name in list(parts[0]):
        result[name] = np.concatenate([p.pop(name) for p in parts])
    return result


# --- the head


def _facts(path: Path, reader: Any) -> CloudFacts:
    header = reader.header
    size = path.stat().st_size
    count = int(header.point_count)
    least = _LEAST_BYTES if header.are_points_compressed else float(header.point_format.size)
    if count * least > size:
        raise MossError(
            f"{path} claims {count:,} points, more than {size:,} bytes can hold.", "Fetch or copy it again."
        )
    numbers = [*header.scales, *header.offsets]
    if not all(math.isfinite(v) and abs(v) < 1e12 for v in numbers) or not all(s > 0 for s in header.scales):
        raise MossError(f"The scales of {path} are no numbers that place a point.", "Fetch it again.")
    if count == 0:
        raise MossError(f"{path} holds no points.", "Choose another file.")
    crs, unit, remarks = system_of(header, list(getattr(reader, "evlrs", None) or []))
    head = CloudHead(
        str(header.version),
        int(header.point_format.id),
        _three(header.scales),
        _three(header.offsets),
        tuple(_records(header)),
        tuple(_extra(d) for d in header.point_format.extra_dimensions),
        crs,
        bool(header.global_encoding.wkt),
        str(header.system_identifier),
        str(header.generating_software),
    )
    (xmin, ymin, low), (xmax, ymax, high) = header.mins, header.maxs
    box = (float(xmin), float(ymin), float(xmax), float(ymax))
    wide = 24 + sum(_width(d) for d in header.point_format.dimensions if d.name not in _PLACES)
    return CloudFacts(count, box, (float(low), float(high)), head, crs, unit, tuple(remarks), wide)


def _width(dimension: Any) -> int:
    return max(math.ceil(int(dimension.num_bits) / 8), 1)


def _three(values: Any) -> tuple[float, float, float]:
    x, y, z = (float(v) for v in values)
    return x, y, z


def _records(header: Any) -> Iterator[Record]:
    for record in header.vlrs:
        extra = record.user_id == "LASF_Spec" and record.record_id == 4
        if record.user_id in _OWN or extra:
            continue
        try:
            content = bytes(record.record_data_bytes())
        except NotImplementedError:
            continue
        yield Record(record.user_id, int(record.record_id), str(record.description), content)


def _extra(dimension: Any) -> ExtraField:
    scales, offsets = (
        None if v is None else tuple(float(n) for n in v) for v in (dimension.scales, dimension.offsets)
    )
    return ExtraField(dimension.name, str(dimension.dtype), str(dimension.description), scales, offsets)


def system_of(header: Any, extended: list[Any]) -> tuple[str | None, Unit, list[str]]:
    """Horizontal system as WKT, unit of heights, and what was taken for granted."""
    from pyproj import CRS
    from pyproj.exceptions import CRSError

    keys, texts = _geo_keys(header), _wkt_texts([*header.vlrs, *extended])
    code = keys.get(_MODEL, 0)
    stated = [f"EPSG:{code}"] if 1024 <= code < 32767 and not header.global_encoding.wkt else []
    remarks: list[str] = []
    system = None
    for text in (*stated, *texts):
        try:
            system = CRS.from_user_input(text)
            break
        except CRSError:
            remarks.append("The file states a reference system that cannot be read.")
    vertical = _KEY_UNITS.get(keys.get(_VERTICAL_UNIT, 0))
    if system is None:
        return None, vertical or UNKNOWN, remarks
    if system.is_compound:
        system, upright = system.sub_crs_list[:2]
        vertical = unit_named(upright.axis_info[0].unit_name) or vertical
    if vertical is None and system.is_projected:
        vertical = unit_named(system.axis_info[0].unit_name) or METRE
        if vertical != METRE:
            word = vertical.key.replace("_", " ")
            remarks.append(f"The unit of heights is not stated: {word}, as of the plan, is taken.")
    return system.to_wkt(), vertical or METRE, remarks


def _geo_keys(header: Any) -> dict[int, int]:
    """GeoTIFF keys with their short values (OGC GeoTIFF 1.1)."""
    for record in header.vlrs:
        if (record.user_id, record.record_id) == ("LASF_Projection", 34735):
            content = bytes(record.record_data_bytes())
            numbers = struct.unpack(f"<{len(content) // 2}H", content[: len(content) // 2 * 2])
            keys = [numbers[k : k + 4] for k in range(4, len(numbers) - 3, 4)]
            return {k: value for k, place, _, value in keys if place == 0}
    return {}


def _wkt_texts(records: list[Any]) -> list[str]:
    found = [r for r in records if r.user_id == "LASF_Projection" and r.record_id == 2112]
    texts = [bytes(r.record_data_bytes()).split(b"\0")[0].decode("utf-8", "replace").strip() for r in found]
    return [t for t in texts if t]


# --- writing


def write_cloud(path: Path, cloud: Cloud, progress: Progress | None = None) -> None:
    """Write a cloud as LAS or, by its ending, LAZ: whole or not at all, every attribute kept.

    Points that came from a file stand as they stood there; others are written in format 6 or, with colours,
    7, to the millimetre. Attributes that no format has are extra ones.
    """
    import laspy  # loaded where it is used: it takes a while

    progress = progress or silent()
    header = _header_for(cloud)
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
        if record.user != "LASF_Projection" or cloud.crs == head.crs:
            header.vlrs.append(laspy.VLR(record.user, record.number, record.description, record.content))
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
    for axis, values in zip(_PLACES, (cloud.x, cloud.y, cloud.z), strict=True):
        k = _PLACES.index(axis)
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
