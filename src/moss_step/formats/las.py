"""Clouds in LAS and LAZ files (ASPRS LAS 1.0 to 1.4), COPC among them, through laspy and lazrs."""

from __future__ import annotations

import math
import struct
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np

from moss_step.formats.whole import check_readable
from moss_step.model.cloud import Cloud, CloudHead, ExtraField, PointClass, Record, of_returns
from moss_step.model.errors import MossError
from moss_step.model.frame import Box
from moss_step.model.mapped import room_for, too_large
from moss_step.model.memory import check_memory
from moss_step.model.progress import Progress, silent
from moss_step.model.units import FOOT, METRE, UNKNOWN, US_FOOT, Unit, unit_named

ENDINGS = (".laz", ".las")
_LEAST_BYTES = 0.25
"""Bytes that a point takes at the least in a compressed file: a head that claims more points is wrong."""
_DECODED = 200_000
"""Points that are decoded at once: the decoder lets nothing else of the interpreter run meanwhile."""
_SHOWN = 150_000
"""Points that are drawn of a cloud while it is read."""
_CACHED = 65_536
"""Points whose bytes stay in the processor's cache while each of their values is copied out of them."""
PLACES = ("X", "Y", "Z")
LOOKUP, _MOST_NAMED = ("LASF_Spec", 0), 256 * 16
"""The record that names classes, and the most bytes that it has."""
_HEAD, _RECORD, _MOST_RECORDS = 104, 54, 10_000
"""Bytes of a head up to the number of its records, before the content of one, and most that are read."""
_OWN = {"laszip encoded", "copc"}
"""Users of records that belong to the packing of a file, and not to its points."""
_MODEL, _VERTICAL_UNIT = 3072, 4099
"""Keys of the projected system and of the unit of heights (OGC GeoTIFF 1.1)."""
_KEY_UNITS = {9001: METRE, 9002: FOOT, 9003: US_FOOT}


class NoPointsError(MossError):
    """Nothing is left of a cloud by what is wanted of it."""


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
    with opened(path) as reader:
        return _facts(path, reader)


WHOLE = Wanted()


def read_cloud(
    path: Path, wanted: Wanted = WHOLE, progress: Progress | None = None
) -> tuple[Cloud, list[str]]:
    """Read the points that are wanted, with every attribute; and remarks.

    Raises MossError for files that cannot be read whole, or do not fit in memory.
    """
    progress = progress or silent()
    with opened(path) as reader:
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


def read_sample(path: Path, places: int, each: int) -> Cloud:
    """Some points from even places of a file, without reading what lies between.

    Raises MossError when it is none of ours or damaged.
    """
    with opened(path) as reader, _guarded(path):
        facts = _facts(path, reader)
        parts = []
        for k in range(places):
            reader.seek(facts.count * k // places)
            points = reader.read_points(min(each, facts.count - facts.count * k // places))
            parts.append(_columns(points, slice(None)))
    columns = {n: np.concatenate([p[n] for p in parts]) for n in parts[0]}
    x, y, z = (columns.pop(n) for n in "xyz")
    return Cloud(x, y, z, columns, facts.crs, facts.unit, facts.head)


def _whole(path: Path, reader: Any, facts: CloudFacts, progress: Progress) -> Cloud:
    """All points, read into arrays of their number: nothing is copied twice."""
    mapped = too_large(facts.count * facts.bytes_a_point)
    columns = {n: room_for(facts.count, kind, mapped) for n, kind in kinds_of(reader).items()}
    fill(path, reader, facts, columns, 0, progress)
    x, y, z = (columns.pop(n) for n in "xyz")
    return Cloud(x, y, z, columns, facts.crs, facts.unit, facts.head)


def kinds_of(reader: Any) -> dict[str, np.dtype]:
    """Names and types of what the points of a file hold."""
    import laspy  # loaded where it is used: it takes a while

    return {n: v.dtype for n, v in _views(laspy.ScaleAwarePointRecord.zeros(1, header=reader.header))}


def fill(
    path: Path,
    reader: Any,
    facts: CloudFacts,
    columns: dict[str, np.ndarray],
    first: int,
    progress: Progress,
) -> None:
    """Read all points of a file into columns, from a place on; what there is so far can be drawn."""
    count, read = facts.count, 0
    for points in _chunks(path, reader, WHOLE):
        progress.at(min(read / count, 1.0), "Reading points")
        for start in range(0, len(points), _CACHED):  # all of a point's values while they are near
            some = points[start : start + _CACHED]
            to = slice(first + read, first + min(read + len(some), count))
            for name, values in _views(some):
                if name in columns:
                    columns[name][to] = values[: max(count - read, 0)]
            read += len(some)
        progress.show(partial(_so_far, columns, first + min(read, count), facts))
    if read != count:
        raise MossError(
            f"{path} holds {read:,} points, and its head says {count:,}.", "Fetch or copy it again."
        )


def _so_far(columns: dict[str, np.ndarray], held: int, facts: CloudFacts) -> Cloud:
    """An even choice of the points that stand in columns already."""
    step = max(held // _SHOWN, 1)
    some = {n: np.array(v[:held:step]) for n, v in columns.items()}
    x, y, z = (some.pop(n) for n in "xyz")
    return Cloud(x, y, z, some, facts.crs, facts.unit)


def _views(points: Any) -> Iterator[tuple[str, np.ndarray]]:
    """Coordinates and attributes of some points, by name."""
    for axis in "xyz":
        yield axis, np.asarray(getattr(points, axis))
    for name in points.point_format.dimension_names:
        if name not in PLACES:
            yield name, np.asarray(points[name])


@contextmanager
def opened(path: Path) -> Iterator[Any]:
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
        yield from reader.chunk_iterator(_DECODED)


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
        kept &= of_returns(wanted.returns, number, of)
    return kept


def _columns(points: Any, kept: slice | np.ndarray) -> dict[str, np.ndarray]:
    return {name: np.array(values[kept]) for name, values in _views(points)}


def _joined(parts: list[dict[str, np.ndarray]], facts: CloudFacts) -> dict[str, np.ndarray]:
    """All parts one after another; each is let go as it is copied."""
    if not parts:
        raise NoPointsError("No point is left of the cloud.", "Take a larger box, other returns or classes.")
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
    wide = 24 + sum(_width(d) for d in header.point_format.dimensions if d.name not in PLACES)
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


def own_classes(path: Path) -> tuple[PointClass, ...]:
    """Classes that a file names itself: 16 bytes each, a code and a description (ASPRS LAS 1.4 R15, 2.8).

    They are read here, since the library leaves all but letters and digits out of the descriptions.
    """
    found: dict[int, PointClass] = {}
    with path.open("rb") as file:
        head = file.read(_HEAD)
        if len(head) < _HEAD:
            return ()
        file.seek(struct.unpack_from("<H", head, 94)[0])
        for _ in range(min(struct.unpack_from("<I", head, 100)[0], _MOST_RECORDS)):
            about = file.read(_RECORD)
            if len(about) < _RECORD:
                break
            user = about[2:18].split(b"\0")[0].decode("latin-1")
            number, size = struct.unpack_from("<HH", about, 18)
            content = file.read(size)
            if (user, number) == LOOKUP:
                found |= _named(content)
    return tuple(found.values())


def _named(content: bytes) -> dict[int, PointClass]:
    result = {}
    for at in range(0, min(len(content), _MOST_NAMED) - 15, 16):
        name = content[at + 1 : at + 16].split(b"\0")[0].decode("ascii", "replace").strip()
        if name and name.isprintable():
            result[content[at]] = PointClass(content[at], name)
    return result


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
