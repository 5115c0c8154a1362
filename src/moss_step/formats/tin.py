"""TINs in files: PLY and OBJ both ways, LandXML surfaces and GeoPackage triangles out."""

from __future__ import annotations

import itertools
import re
from collections.abc import Iterator
from pathlib import Path
from xml.sax.saxutils import quoteattr

import numpy as np
import shapely

from moss_step.formats.vector import write_shapes
from moss_step.formats.whole import check_readable, in_words, printable, read_text, whole_file, write_chunks
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.frame import reference_system
from moss_step.model.shapes import Shapes
from moss_step.model.tin import Tin
from moss_step.model.units import FOOT, METRE, UNKNOWN, US_FOOT, Unit, unit_named

ENDINGS = (".ply", ".obj", ".xml", ".gpkg")
_AT_ONCE = 20_000
_LEAST_BYTES = 3
"""Bytes that a corner takes at the least, and a number of a face, in any way of writing."""
_LANDXML_UNITS = {METRE.key: "meter", FOOT.key: "foot", US_FOOT.key: "USSurveyFoot"}


def write_tin(path: Path, tin: Tin, name: str = "") -> None:
    """Write a TIN whole or not at all; the ending chooses PLY, OBJ, LandXML 1.2 or triangles as GeoPackage.

    Raises AskedWronglyError for another ending.
    """
    ending = path.suffix.lower()
    if ending == ".ply":
        _write_ply(path, tin, name)
    elif ending == ".obj":
        write_chunks(path, _obj(tin, name))
    elif ending == ".xml":
        write_chunks(path, _landxml(tin, name or path.stem))
    elif ending == ".gpkg":
        write_shapes(path, triangles_of(tin), about=name)
    else:
        raise AskedWronglyError(
            f"'{ending}' is no format for a TIN here.", f"Use one of {', '.join(ENDINGS)}."
        )


def triangles_of(tin: Tin) -> Shapes:
    """Each triangle as an area whose corners have heights, with its number, lowest and highest corner."""
    corners = np.column_stack([tin.x, tin.y, tin.z])[tin.triangles]
    rings = np.concatenate([corners, corners[:, :1]], axis=1)
    z = corners[:, :, 2]
    columns = {
        "triangle": np.arange(1, len(tin) + 1), "lowest": z.min(axis=1), "mean": z.mean(axis=1),
        "highest": z.max(axis=1),
    }  # fmt: skip
    symbols = dict.fromkeys(("lowest", "mean", "highest"), tin.unit.symbol)
    return Shapes(np.asarray(shapely.polygons(rings)), columns, tin.crs, symbols)


def _said(tin: Tin, name: str) -> list[str]:
    """What a file says of itself in comments: title, system and unit."""
    system = _system_text(tin.crs)
    return [
        *([f"title {printable(name)[:200]}"] if name else []),
        *([f"crs {system}"] if system else []),
        f"unit {tin.unit.key}",
    ]


def _system_text(crs: str | None) -> str:
    """A reference system on one line: its code where it has one."""
    if crs is None:
        return ""
    system = reference_system(crs)
    code = system.to_epsg()
    return f"EPSG:{code}" if code else " ".join(system.to_wkt().split())


def _write_ply(path: Path, tin: Tin, name: str) -> None:
    from plyfile import PlyData, PlyElement

    points = np.empty(len(tin.x), [("x", "<f8"), ("y", "<f8"), ("z", "<f8")])
    points["x"], points["y"], points["z"] = tin.x, tin.y, tin.z
    faces = np.empty(len(tin), [("vertex_indices", "<i4", (3,))])
    faces["vertex_indices"] = tin.triangles
    lines = np.empty(len(tin.lines), [("vertex1", "<i4"), ("vertex2", "<i4")])
    lines["vertex1"], lines["vertex2"] = tin.lines.T
    made = PlyData(
        [
            PlyElement.describe(points, "vertex"),
            PlyElement.describe(faces, "face"),
            *([PlyElement.describe(lines, "edge")] if len(lines) else []),
        ],
        byte_order="<",
        comments=_said(tin, name),
    )
    with whole_file(path) as temporary, in_words(path, "written as a TIN"):
        made.write(str(temporary))


def _obj(tin: Tin, name: str) -> Iterator[str]:
    yield "".join(f"# {s}\n" for s in _said(tin, name))
    corners = np.column_stack([tin.x, tin.y, tin.z])
    for first in range(0, len(corners), _AT_ONCE):
        yield "".join(f"v {x:.12g} {y:.12g} {z:.12g}\n" for x, y, z in corners[first : first + _AT_ONCE])
    for first in range(0, len(tin), _AT_ONCE):
        yield "".join(f"f {a} {b} {c}\n" for a, b, c in tin.triangles[first : first + _AT_ONCE] + 1)
    for first in range(0, len(tin.lines), _AT_ONCE):
        yield "".join(f"l {a} {b}\n" for a, b in tin.lines[first : first + _AT_ONCE] + 1)


def _landxml(tin: Tin, name: str) -> Iterator[str]:
    """LandXML 1.2: points as northing, easting, elevation; numbers of triangles' corners."""
    unit = _LANDXML_UNITS.get(tin.unit.key, "meter")
    kind = "Metric" if unit == "meter" else "Imperial"
    area, volume = ("squareMeter", "cubicMeter") if unit == "meter" else ("squareFoot", "cubicFeet")
    system = _system_text(tin.crs)
    code = f" epsgCode={quoteattr(system.removeprefix('EPSG:'))}" if system.startswith("EPSG:") else ""
    low, high = tin.range or (0.0, 0.0)
    yield (
        '<?xml version="1.0" encoding="UTF-8"?>\n'
        '<LandXML xmlns="http://www.landxml.org/schema/LandXML-1.2" version="1.2" date="2026-01-01" '
        'time="00:00:00">\n'
        f'<Units><{kind} areaUnit="{area}" linearUnit="{unit}" volumeUnit="{volume}" '
        f'temperatureUnit="celsius" pressureUnit="HPA"/></Units>\n'
        f"<CoordinateSystem name={quoteattr(system or 'not stated')}{code}/>\n"
        f'<Application name="Moss Step"/>\n<Surfaces><Surface name={quoteattr(printable(name)[:200])}>\n'
        f'<Definition surfType="TIN" elevMin="{low:.10g}" elevMax="{high:.10g}"><Pnts>\n'
    )
    for first in range(0, len(tin.x), _AT_ONCE):
        part = slice(first, first + _AT_ONCE)
        rows = zip(tin.x[part], tin.y[part], tin.z[part], strict=True)
        yield "".join(
            f'<P id="{n}">{y:.12g} {x:.12g} {z:.12g}</P>\n' for n, (x, y, z) in enumerate(rows, first + 1)
        )
    yield "</Pnts><Faces>\n"
    for first in range(0, len(tin), _AT_ONCE):
        yield "".join(f"<F>{a} {b} {c}</F>\n" for a, b, c in tin.triangles[first : first + _AT_ONCE] + 1)
    yield "</Faces></Definition></Surface></Surfaces>\n</LandXML>\n"


def read_tin(path: Path) -> Tin:
    """Read a TIN from a PLY or OBJ file; faces of more corners are cut into triangles.

    Raises MossError when it holds none, or is damaged.
    """
    check_readable(path)
    ending = path.suffix.lower()
    if ending not in (".ply", ".obj"):
        raise AskedWronglyError(f"{path} cannot be read as a TIN.", "Give a .ply or .obj file.")
    with in_words(path, "read as a TIN"):
        corners, faces, lines, said = _read_ply(path) if ending == ".ply" else _read_obj(path)
    if not len(faces):
        raise MossError(f"{path} holds no triangles.", "Choose another file.")
    if not np.isfinite(corners).all():
        raise MossError(f"{path} has corners that are no numbers.", "Fetch or copy it again.")
    crs, unit = _stated(said)
    return Tin(corners[:, 0].copy(), corners[:, 1].copy(), corners[:, 2].copy(), faces, lines, crs, unit)


def _stated(said: list[str]) -> tuple[str | None, Unit]:
    """System and unit that a file's comments name."""
    crs, unit = None, UNKNOWN
    for text in said:
        word, _, rest = text.partition(" ")
        if word == "crs" and rest.strip():
            reference_system(rest.strip())
            crs = rest.strip()
        elif word == "unit":
            unit = unit_named(rest) or UNKNOWN
    return crs, unit


def _read_ply(path: Path) -> tuple[np.ndarray, np.ndarray, np.ndarray, list[str]]:
    from plyfile import PlyData

    _check_claims(path)
    known = {"known_list_len": {"face": {"vertex_indices": 3}}} if _all_three(path) else {}
    held = PlyData.read(str(path), **known)
    points = held["vertex"]
    corners = np.column_stack([np.asarray(points[n], np.float64) for n in "xyz"])
    names = {e.name for e in held.elements}
    faces = held["face"].data if "face" in names else np.empty(0, [("vertex_indices", "i4", (3,))])
    column = next((n for n in faces.dtype.names or () if n.startswith("vertex_ind")), None)
    if column is None:
        raise MossError(f"{path} says nothing of the corners of its faces.", "Fetch or copy it again.")
    shown = [np.asarray(f, np.int64) for f in faces[column]]
    lines = np.empty((0, 2), np.int64)
    if "edge" in names and {"vertex1", "vertex2"} <= set(held["edge"].data.dtype.names):
        lines = np.column_stack([held["edge"].data["vertex1"], held["edge"].data["vertex2"]])
    return corners, _fans(shown), lines, [str(c) for c in held.comments]


def _all_three(path: Path) -> bool:
    """Whether this program wrote the file: all of its faces are triangles then.

    Only of a binary file: the reader counts the corners of each face there, and in a text it does not.
    """
    with path.open("rb") as file:
        head = file.read(4096)
    return b"comment unit " in head and b"format binary" in head


def _check_claims(path: Path) -> None:
    """Hold what the head claims against the size of the file: memory is never taken by a claim."""
    with path.open("rb") as file:
        head = file.read(65_536).partition(b"end_header")[0]
    if not head.startswith(b"ply"):
        raise MossError(f"{path} is no PLY file.", "Fetch or copy it again.")
    claimed = sum(int(n) for n in re.findall(rb"element\s+\w+\s+(\d{1,18})", head))
    if claimed * _LEAST_BYTES > path.stat().st_size:
        raise MossError(
            f"{path} claims {claimed:,} parts, and is too short for them.", "Fetch or copy it again."
        )


def _read_obj(path: Path) -> tuple[np.ndarray, np.ndarray, np.ndarray, list[str]]:
    corners: list[list[float]] = []
    faces: list[np.ndarray] = []
    lines: list[list[int]] = []
    said: list[str] = []
    for number, text in enumerate(read_text(path).splitlines(), 1):
        words = text.split()
        if not words:
            continue
        try:
            if words[0] == "v":
                corners.append([float(w) for w in words[1:4]])
            elif words[0] in ("f", "l"):
                at = [int(w.partition("/")[0]) for w in words[1:]]
                at = [a - 1 if a > 0 else len(corners) + a for a in at]
                if words[0] == "f":
                    faces.append(np.array(at, np.int64))
                else:
                    lines += [[a, b] for a, b in itertools.pairwise(at)]
            elif words[0] == "#":
                said.append(text[1:].strip())
        except ValueError as error:
            raise MossError(
                f"Line {number} of {path} is no part of a surface.", "Fetch or copy it again."
            ) from error
    held = np.array(corners, np.float64).reshape(-1, 3) if all(len(c) == 3 for c in corners) else None
    if held is None:
        raise MossError(f"{path} has corners without three coordinates.", "Fetch or copy it again.")
    return held, _fans(faces), np.array(lines, np.int64).reshape(-1, 2), said


def _fans(faces: list[np.ndarray]) -> np.ndarray:
    """Triangles (m, 3) of faces with three corners or more."""
    if all(len(f) == 3 for f in faces):
        return np.array(faces, np.int64).reshape(-1, 3)
    cut = [np.array([f[0], f[k], f[k + 1]]) for f in faces if len(f) >= 3 for k in range(1, len(f) - 1)]
    return np.array(cut, np.int64).reshape(-1, 3)
