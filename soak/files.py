"""Damaged files of every format, given to the steps that read them: cut off, scribbled on, padded, with parts of other files."""

from __future__ import annotations

import random
from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np
import rasterio
from PIL import Image
from rasterio.transform import from_origin

from moss_step.formats.raster_write import write_class_map, write_surface
from moss_step.formats.rules_csv import write_rules
from moss_step.formats.vector import write_shapes
from moss_step.model.class_map import ClassEntry, ClassMap
from moss_step.model.frame import Frame
from moss_step.model.rules import Rule, RuleSet
from moss_step.model.surface import Surface
from moss_step.model.units import METRE
from moss_step.study.engine import Engine
from moss_step.study.graph import Step, Study
from moss_step.study.pages import Page, PicturePart
from moss_step.study.parcel import pack
from moss_step.study.saving import save_study
from soak.settings import some_shapes
from soak.watch import Judge

FRAME = Frame(30, 40, 412_000.0, 5_872_000.0, 2.0, 2.0, "EPSG:32628")
GROUND = Surface(np.random.default_rng(1).normal(400, 20, FRAME.shape).astype(np.float32), FRAME, METRE)
NASTY = (
    b"\0", b"\xff" * 8, b"nan", b"-inf", b"1e999", b"9" * 4000, b"<!DOCTYPE a [<!ENTITY b SYSTEM 'file:///etc/passwd'>]>", b"/vsicurl/http://", b"../../",
    b"\x80", b"\xed\xa0\xbd", b"=cmd()", b"\r", b"\n" * 50, b'"', b"{" * 3000,
)  # fmt: skip


def sound_files(folder: Path) -> dict[str, list[Path]]:
    """A sound file of each format with all that lies beside it, and the words of a command that reads it."""
    surface, shapes = folder / "ground.tif", some_shapes(FRAME)
    write_surface(surface, GROUND, "Ground")
    write_surface(folder / "ground.asc", GROUND, "Ground")
    codes = np.ones(FRAME.shape, np.uint8)
    write_class_map(
        folder / "classes.tif", ClassMap(codes, FRAME, (ClassEntry(1, "Low", "#336655"),)), "Classes"
    )
    found = {
        "ground.tif": [surface],
        "ground.asc": [*folder.glob("ground.asc"), *folder.glob("ground.prj")],
        "classes.tif": [folder / "classes.tif"],
    }
    for driver, name in (("ENVI", "envi.img"), ("EHdr", "flat.bil"), ("HFA", "tree.img")):
        profile = {
            "driver": driver,
            "width": 40,
            "height": 30,
            "count": 1,
            "dtype": "float32",
            "crs": FRAME.crs,
        }
        with rasterio.open(
            folder / name, "w", **profile, transform=from_origin(FRAME.x0, FRAME.y0, 2.0, 2.0)
        ) as file:
            file.write(GROUND.values, 1)
        found[name] = sorted(p for p in folder.iterdir() if p.stem.split(".")[0] == name.split(".")[0])
    for ending in ("gpkg", "geojson", "fgb"):
        write_shapes(folder / f"shapes.{ending}", shapes)
        found[f"shapes.{ending}"] = [folder / f"shapes.{ending}"]
    import pyogrio
    import shapely

    pyogrio.raw.write(
        folder / "points.shp", shapely.to_wkb(shapes.geometry[2:]), [shapes.columns["height"][2:]], ["height"], driver="ESRI Shapefile",
        geometry_type="Point", crs=FRAME.crs,
    )  # fmt: skip
    found["points.shp"] = sorted(folder.glob("points.*"))
    (folder / "table.csv").write_text("x,y,name\n412010,5871990,a\n412020,5871980,b\n")
    found["table.csv"] = [folder / "table.csv"]
    write_rules(
        folder / "rules.csv",
        RuleSet((Rule(0, 10, 1, "Gentle", "#CAD39B"), Rule(10, None, 2, "Steep", "#CF7340"))),
    )
    found["rules.csv"] = [folder / "rules.csv"]
    return found | _handed_on(folder)


def _handed_on(folder: Path) -> dict[str, list[Path]]:
    """A parcel, and a picture on a page of a study."""
    ground = Step(id="ground", kind="open_grid", settings={"source": str(folder / "ground.tif")})
    slope = Step(id="slope", kind="slope", inputs={"dem": "ground"})
    study = Study(name="Paged", steps=(ground, slope))
    pack(study, folder / "study.parcel.zip", Engine())
    Image.new("RGB", (30, 20), "#2C6E91").save(folder / "logo.png")
    logo = PicturePart(id="logo", x=10, y=10, width=30, height=20, file=str(folder / "logo.png"))
    save_study(study.with_page(Page(name="P", parts=(logo,))), folder / "paged.moss")
    return {"study.parcel.zip": [folder / "study.parcel.zip"], "logo.png": [folder / "logo.png"]}


def words_for(path: Path, folder: Path) -> list[str]:
    """The command that reads a file of a name."""
    if path.name == "rules.csv":
        return [
            "do",
            "classify",
            f"surface={folder / 'good.tif'}",
            f"rules={path}",
            "-o",
            str(folder / "out.tif"),
            "--overwrite",
        ]
    if path.name == "study.parcel.zip":
        return ["check", str(path), "-q"]
    if path.name == "logo.png":
        return ["sheet", str(folder / "paged.moss"), "-o", str(folder / "out.pdf"), "--overwrite", "-q"]
    if path.name == "classes.tif":
        return ["do", "patches", f"classes={path}", "-o", str(folder / "out.gpkg"), "--overwrite"]
    if path.name.startswith(("shapes", "points", "table")):
        return ["do", "open_shapes", f"source={path}", "-o", str(folder / "out.geojson"), "--overwrite"]
    return ["do", "open_grid", f"source={path}", "-o", str(folder / "out.tif"), "--overwrite"]


def cut(content: bytes, _: bytes, rng: random.Random) -> bytes:
    """A file cut off."""
    return content[: rng.randrange(len(content) + 1)]


def scribbled(content: bytes, _: bytes, rng: random.Random) -> bytes:
    """Some bytes are others."""
    out = bytearray(content)
    for _n in range(rng.choice((1, 1, 2, 5, 30))):
        if out:
            out[rng.randrange(min(len(out), rng.choice((200, 2000, 10**9))))] = rng.randrange(256)
    return bytes(out)


def swapped(content: bytes, other: bytes, rng: random.Random) -> bytes:
    """A part is a part of another file."""
    at, length = rng.randrange(len(content) + 1), rng.randrange(1, 400)
    start = rng.randrange(len(other) + 1)
    return content[:at] + other[start : start + length] + content[at + length :]


def with_something_nasty(content: bytes, _: bytes, rng: random.Random) -> bytes:
    """Something nasty is put in, or put in the place of a number or a word."""
    at, nasty = rng.randrange(min(len(content), rng.choice((300, 10**9))) + 1), rng.choice(NASTY)
    return content[:at] + nasty + content[at + rng.choice((0, len(nasty), 5)) :]


def another(_: bytes, other: bytes, __: random.Random) -> bytes:
    """The content of another file under this name."""
    return other


DAMAGE: tuple[Callable[[bytes, bytes, random.Random], bytes], ...] = (
    cut,
    scribbled,
    scribbled,
    swapped,
    with_something_nasty,
    another,
)


FAR_FETCHED = ((1e308, 1e308), (1e307, 1e-300), (1e-320, 2.0), (2.0, 1e300), (1e154, 1e154), (5e-324, 5e-324))
"""Cell sizes that a damaged header may hold: each is a number, and what follows from it may be none. The first one brought up a remark of a library."""


def far_fetched(folder: Path) -> Iterator[tuple[Path, str]]:
    """Grids of the far-fetched sizes, under the names of sound ones; each is there for a turn."""
    for name, values in (("ground.tif", GROUND.values), ("classes.tif", np.ones(FRAME.shape, np.uint8))):
        for dx, dy in FAR_FETCHED:
            profile = {
                "driver": "GTiff",
                "width": 40,
                "height": 30,
                "count": 1,
                "dtype": values.dtype,
                "crs": FRAME.crs,
            }
            with rasterio.open(
                folder / name, "w", **profile, transform=from_origin(FRAME.x0, FRAME.y0, dx, dy)
            ) as file:
                file.write(values, 1)
            yield folder / name, f"{name} of cells of {dx:g} by {dy:g}"


def damaged_files(judge: Judge, rng: random.Random) -> Iterator[None]:
    """First the hand-made files, then one damaged file a turn, without end."""
    folder = judge.inside
    found = sound_files(folder)
    sound = {path: path.read_bytes() for paths in found.values() for path in paths}
    kept = {*sound, folder / "good.tif", folder / "paged.moss"}
    (folder / "good.tif").write_bytes(sound[folder / "ground.tif"])
    for path, said in far_fetched(folder):
        judge.case(words_for(path, folder), said)
        path.write_bytes(sound[path])
        yield
    while True:
        name = rng.choice(sorted(found))
        hit = rng.choice(found[name])
        how = rng.choice(DAMAGE)
        hit.write_bytes(how(sound[hit], sound[rng.choice(sorted(sound))], rng))
        judge.case(words_for(folder / name, folder), f"{name}: {hit.name} {how.__name__}")
        hit.write_bytes(sound[hit])
        for left in [p for p in folder.iterdir() if p not in kept]:
            if left.name.startswith(".moss-"):
                judge.tally.fault("wrong", f"{name}: {left.name} is left")
            left.unlink()
        yield
