"""Parcels: packed, opened in a fresh folder, run anew and compared; and those that are not honest.

Checksums are held against the standard library's SHA-256 of the files themselves; the zip is read with the
system's own reader.
"""

from __future__ import annotations

import hashlib
import json
import shutil
import subprocess
import sys
import zipfile
from pathlib import Path

import numpy as np
import pytest

from moss_step.model.errors import MossError
from moss_step.study import parcel as parcels
from moss_step.study.engine import Engine
from moss_step.study.graph import Study
from moss_step.study.pages import Page, PicturePart, PlanPart
from moss_step.study.parcel import MANIFEST, check_parcel, open_parcel, pack, read_manifest, unpack
from moss_step.study.saving import save_study
from tests.conftest import write_tif
from tests.scene.test_sheet import study_of


@pytest.fixture
def study(hills_tif: Path, tmp_path: Path) -> Study:
    from PIL import Image

    Image.new("RGB", (8, 8), "#2C6E91").save(tmp_path / "logo.png")
    page = Page(
        name="P", parts=(PlanPart(id="plan"), PicturePart(id="logo", file=str(tmp_path / "logo.png")))
    )
    return study_of(hills_tif).with_page(page)


@pytest.fixture
def packed(study: Study, tmp_path: Path) -> Path:
    pack(study, tmp_path / "trial.parcel.zip", Engine(), with_results=True)
    return tmp_path / "trial.parcel.zip"


def rewritten(path: Path, target: Path, change=None, more=()) -> Path:
    """A parcel with some of its files changed, or others added."""
    with zipfile.ZipFile(path) as old, zipfile.ZipFile(target, "w", zipfile.ZIP_DEFLATED) as new:
        for name in old.namelist():
            data = old.read(name)
            data = change(name, data) if change else data
            if data is not None:
                new.writestr(name, data)
        for name, data in more:
            new.writestr(name, data)
    return target


def test_a_parcel_holds_all_and_its_checksums_are_true(
    study: Study, packed: Path, hills_tif: Path, tmp_path: Path
) -> None:
    manifest = read_manifest(packed)
    with zipfile.ZipFile(packed) as held:
        assert held.testzip() is None
        for file in (manifest.study, *(f for s in manifest.sources for f in s.files), *manifest.results):
            data = held.read(file.path)
            assert len(data) == file.bytes and hashlib.sha256(data).hexdigest() == file.sha256
        assert hashlib.sha256(hills_tif.read_bytes()).hexdigest() in {
            f.sha256 for s in manifest.sources for f in s.files
        }
        assert str(tmp_path) not in held.read("study.moss").decode()
    assert len(manifest.sources) == 2 and not manifest.failed
    assert {f.result for f in manifest.figures} >= {"slope", "classes", "lines"}
    assert any(r.path.endswith(".tif") for r in manifest.results) and any(r.path.endswith("lineage.txt") for r in manifest.results)  # fmt: skip
    again = tmp_path / "again.parcel.zip"
    pack(study, again, Engine(), with_results=True)
    assert again.read_bytes() == packed.read_bytes()


def test_it_opens_in_a_fresh_folder_and_gives_the_same(packed: Path, hills_tif: Path, tmp_path: Path) -> None:
    away = tmp_path / "elsewhere"
    away.mkdir()
    shutil.move(packed, away / "p.parcel.zip")
    hills_tif.unlink()
    (tmp_path / "logo.png").unlink()
    opened = open_parcel(away / "p.parcel.zip", away / "study")
    assert (
        all(str(away) in f for f in [*opened.source_files, *opened.pictures])
        and Path(opened.pictures[0]).exists()
    )
    share = next(
        f for f in Engine().run_or_raise(opened, "classes").findings if f.name == "share" and f.of == "Steep"
    )
    old = next(
        f for f in read_manifest(away / "p.parcel.zip").figures if f.name == "share" and f.of == "Steep"
    )
    assert share.value == old.value
    checked = check_parcel(away / "p.parcel.zip")
    assert checked.is_same and checked.same == len(read_manifest(away / "p.parcel.zip").figures) > 5
    with pytest.raises(MossError, match="is there already"):
        unpack(away / "p.parcel.zip", away / "study")


def test_what_differs_is_said_figure_by_figure(packed: Path, tmp_path: Path) -> None:
    def other(name: str, data: bytes) -> bytes:
        if name != MANIFEST:
            return data
        manifest = json.loads(data)
        figure = next(f for f in manifest["figures"] if f["name"] == "share" and f["of"] == "Steep")
        figure["value"] += 1e-6
        manifest["figures"].append({**figure, "name": "mean", "of": "", "value": 1.0})
        return json.dumps(manifest).encode()

    checked = check_parcel(rewritten(packed, tmp_path / "other.zip", other))
    assert not checked.is_same and len(checked.differing) == 1 and "share of Steep" in checked.differing[0]
    assert "then" in checked.differing[0] and len(checked.missing) == 1 and "mean" in checked.missing[0]


def test_a_parcel_of_hashes_finds_its_sources_and_knows_others(
    study: Study, tmp_path: Path, hills: np.ndarray
) -> None:
    path = tmp_path / "small.parcel.zip"
    pack(study, path, Engine(), with_sources=False)
    with zipfile.ZipFile(path) as held:
        assert sorted(held.namelist()) == ["manifest.json", "study.moss"]
    assert check_parcel(path).is_same
    away = tmp_path / "away"
    away.mkdir()
    shutil.copy(path, away)
    with pytest.raises(MossError, match="by its hash only"):
        check_parcel(away / path.name)
    assert check_parcel(away / path.name, tmp_path).is_same
    write_tif(away / "hills.tif", hills + 1, unit="metre")
    shutil.copy(tmp_path / "logo.png", away)
    with pytest.raises(MossError, match="is not the file that the parcel was packed with"):
        check_parcel(away / path.name)


HOSTILE = (
    "../out.txt",
    "/out.txt",
    "a/../../out.txt",
    "..\\out.txt",
    "C:/out.txt",
    "~/out.txt",
    "x\x01y",
)


@pytest.mark.parametrize("name", HOSTILE)
def test_names_that_lie_elsewhere_are_refused(packed: Path, tmp_path: Path, name: str) -> None:
    bad = rewritten(packed, tmp_path / "bad.zip", more=[(name, b"out")])
    before = sorted(tmp_path.rglob("*"))
    with pytest.raises(MossError, match="would lie elsewhere"):
        open_parcel(bad, tmp_path / "in")
    assert sorted(tmp_path.rglob("*")) == before

    def within(member: str, data: bytes) -> bytes:
        if member != MANIFEST:
            return data
        manifest = json.loads(data)
        manifest["sources"][0]["files"][0]["path"] = name
        return json.dumps(manifest).encode()

    with pytest.raises(MossError, match="would lie elsewhere|damaged"):
        open_parcel(rewritten(packed, tmp_path / "bad2.zip", within), tmp_path / "in")
    assert not (tmp_path / "in").exists() and not (tmp_path.parent / "out.txt").exists()


def test_bombs_and_damage_are_refused_and_leave_nothing(
    packed: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    bomb = rewritten(packed, tmp_path / "bomb.zip", more=[("results/zero.bin", bytes(300_000_000))])
    with pytest.raises(MossError, match="no honest parcel"):
        unpack(bomb, tmp_path / "in")
    newer = rewritten(
        packed, tmp_path / "newer.zip", lambda n, d: d.replace(b'"moss_step_parcel": 1', b'"moss_step_parcel": 9') if n == MANIFEST else d
    )  # fmt: skip
    with pytest.raises(MossError, match="packed by a newer Moss Step .parcel version 9"):
        read_manifest(newer)
    changed = rewritten(
        packed, tmp_path / "changed.zip", lambda n, d: d[:-1] + b"x" if n.endswith("hills.tif") else d
    )
    gone = rewritten(packed, tmp_path / "gone.zip", lambda n, d: None if n.endswith("hills.tif") else d)
    bare = rewritten(packed, tmp_path / "bare.zip", lambda n, d: None if n == MANIFEST else d)
    cut = tmp_path / "cut.zip"
    cut.write_bytes(packed.read_bytes()[:-200])
    text = tmp_path / "text.zip"
    text.write_text("no zip")
    for path, said in ((changed, "is not what the manifest says"), (gone, "is missing"), (bare, "has no manifest.json"),
                       (cut, "damaged or no parcel"), (text, "damaged or no parcel"), (tmp_path / "not.zip", "was not found")):  # fmt: skip
        with pytest.raises(MossError, match=said):
            unpack(path, tmp_path / "in")
        assert not (tmp_path / "in").exists()
    whole = packed.read_bytes()
    rng = np.random.default_rng(7)
    for k in range(60):
        data = bytearray(whole)
        for at in rng.integers(0, len(data), 6):
            data[at] ^= int(rng.integers(1, 256))
        cut.write_bytes(data[: int(rng.integers(10, len(data)))] if k % 3 == 0 else bytes(data))
        try:
            unpack(cut, tmp_path / "in")
        except MossError:
            assert not (tmp_path / "in").exists()
        else:
            shutil.rmtree(tmp_path / "in")
    assert not [p for p in tmp_path.iterdir() if p.name.startswith(".moss-parcel")]
    monkeypatch.setattr(parcels.shutil, "disk_usage", lambda _: type("Free", (), {"free": 10})())
    with pytest.raises(MossError, match="are free"):
        unpack(packed, tmp_path / "in")


def test_a_step_that_fails_is_noted_and_stays_so(study: Study, tmp_path: Path) -> None:
    broken = study.changing("classes", lambda s: s.model_copy(update={"inputs": {"surface": "lines"}}))
    manifest = pack(broken, tmp_path / "b.zip", Engine())
    assert "classes" in manifest.failed and check_parcel(tmp_path / "b.zip").is_same
    with pytest.raises(MossError, match="was not found"):
        pack(study.changing("ground", lambda s: s.model_copy(update={"settings": {"source": "/no.tif"}})), tmp_path / "c.zip", Engine())  # fmt: skip
    assert not (tmp_path / "c.zip").exists()


def test_a_parcel_replaces_no_source(study: Study, tmp_path: Path) -> None:
    linked = tmp_path / "s.parcel.zip"
    linked.symlink_to(study.source_files[0])
    before = linked.read_bytes()
    with pytest.raises(MossError, match="is read for this"):
        pack(study, linked, Engine())
    assert linked.read_bytes() == before


def test_the_command_line_packs_and_checks(study: Study, tmp_path: Path) -> None:
    save_study(study, tmp_path / "s.moss")

    def call(*words: str) -> subprocess.CompletedProcess[str]:
        program = [sys.executable, "-m", "moss_step", *words]
        return subprocess.run(program, check=False, capture_output=True, text=True, cwd=tmp_path, timeout=300)

    done = call("parcel", "s.moss", "--json")
    said = json.loads(done.stdout)
    assert done.returncode == 0 and said["outputs"] == ["s.parcel.zip"] and said["sources"] == 2
    same = call("check", "s.parcel.zip")
    assert same.returncode == 0 and same.stdout.strip().endswith("figures, all the same.")
    rewritten(tmp_path / "s.parcel.zip", tmp_path / "t.zip", lambda n, d: d.replace(b'"high": 5.0', b'"high": 9.0').replace(b'"low": 5.0', b'"low": 9.0') if n == "study.moss" else d)  # fmt: skip
    refused = call("check", "t.zip")
    assert refused.returncode == 1 and "is not what the manifest says" in refused.stdout
    assert refused.stderr.startswith("moss-step: 1 of 1 parcels do not give the same")
    assert call("parcel", "s.moss", "-o", "x.tar").returncode == 2


def test_sources_of_many_files_go_along(tmp_path: Path) -> None:
    """A folder of clouds, a pattern, a Shapefile with its side files, and a virtual grid with what it refers to."""
    import pyogrio
    import shapely

    from moss_step.demo import DATA
    from moss_step.study.graph import Step

    here = tmp_path / "here"
    (here / "tiles").mkdir(parents=True)
    small = sorted(DATA.glob("*.laz"), key=lambda p: p.stat().st_size)[0]
    for k in (1, 2):
        shutil.copy(small, here / "tiles" / f"{k}.laz")
    pyogrio.raw.write(here / "a.shp", shapely.to_wkb(np.array([shapely.Point(412_050, 5_871_950)])), [np.array([7])], ["n"], geometry_type="Point", crs="EPSG:32628", driver="ESRI Shapefile")  # fmt: skip
    steps = (
        Step(id="folder", kind="open_cloud", settings={"source": str(here / "tiles")}),
        Step(id="pattern", kind="open_cloud", settings={"source": str(here / "tiles" / "*.laz")}),
        Step(id="shapes", kind="open_shapes", settings={"source": str(here / "a.shp")}),
    )
    pack(Study(name="Many", steps=steps), tmp_path / "m.zip", Engine())
    shutil.rmtree(here)
    with zipfile.ZipFile(tmp_path / "m.zip") as held:
        names = held.namelist()
    assert sum(n.endswith(".laz") for n in names) == 4 and any(n.endswith("a.dbf") for n in names)
    assert check_parcel(tmp_path / "m.zip").is_same
