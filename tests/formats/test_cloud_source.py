"""Clouds of several files, of plain text, and mapped from a file when they are larger than memory."""

import numpy as np
import pytest

from moss_step.formats import cloud_source, las
from moss_step.formats.cloud_source import read_source
from moss_step.formats.las import Wanted
from moss_step.formats.las_write import write_cloud
from moss_step.formats.xyz import read_points
from moss_step.model import mapped
from moss_step.model.cloud import Cloud
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.fields import FIELDS
from moss_step.model.progress import silent
from moss_step.model.units import FOOT, METRE
from moss_step.steps.catalogue import catalogue, opening
from moss_step.study.declared import run_declared

UTM = "EPSG:32628"


def tile(k: int, n: int = 500, crs: str = UTM, unit=METRE, **more) -> Cloud:
    rng = np.random.default_rng(k)
    x, y = np.round(rng.uniform(0, 100, (2, n)), 3)
    held = {
        "classification": rng.integers(1, 3, n).astype(np.uint8),
        "intensity": rng.integers(0, 99, n).astype(np.uint16),
    }
    return Cloud(x + 100.0 * k, y, np.round(rng.normal(50, 2, n), 3), {**held, **more}, crs, unit)


@pytest.fixture
def folder(tmp_path):
    for k in range(3):
        write_cloud(tmp_path / f"tile_{k}.laz", tile(k))
    (tmp_path / "notes.txt").write_text("nothing")
    return tmp_path


def run(settings):
    return run_declared(catalogue()["open_cloud"], settings, {}, silent())


def test_a_folder_and_a_pattern_are_one_cloud(folder):
    by_folder = run({"source": str(folder)})
    cloud = by_folder.value
    assert len(cloud) == 1500 and np.bincount(cloud.attributes["tile"]).tolist() == [500, 500, 500]
    for k in range(3):
        own, mine = cloud.part(cloud.attributes["tile"] == k), tile(k)
        for name in ("x", "y", "z"):
            np.testing.assert_allclose(getattr(own, name), getattr(mine, name), atol=1e-6)
        np.testing.assert_array_equal(own.attributes["intensity"], mine.attributes["intensity"])
    some = run({"source": str(folder / "tile_[01]*.laz").replace("[01]", "?")})
    assert len(some.value) == 1500 and len(run({"source": str(folder / "*_2.laz")}).value) == 500
    boxes = by_folder.beside["tiles"]().value
    assert set(boxes.columns) <= set(FIELDS)
    assert (
        boxes.columns["name"].tolist() == ["tile_0.laz", "tile_1.laz", "tile_2.laz"] and boxes.kind == "areas"
    )
    assert boxes.columns["points"].sum() == 1500 and boxes.box[2] == pytest.approx(cloud.x.max())
    assert opening(folder) == [("open_cloud", str(folder))]
    assert (
        catalogue()["open_cloud"].label(
            catalogue()["open_cloud"].checked({"source": str(folder / "*.laz")}), {}
        )
        != "*"
    )


def test_only_files_that_meet_a_box_are_opened(folder, monkeypatch):
    opened, whole = [], las.opened
    describe = cloud_source.describe
    monkeypatch.setattr(las, "opened", lambda path: opened.append(path.name) or whole(path))
    monkeypatch.setattr(cloud_source, "describe", lambda path: describe(path))
    made = read_source(str(folder), Wanted(box=(110.0, 0.0, 190.0, 100.0)))
    assert set(made.cloud.attributes["tile"]) == {1} and ((made.cloud.x >= 110) & (made.cloud.x <= 190)).all()
    read = [n for n in opened if opened.count(n) > 1]
    assert set(read) == {"tile_1.laz"}, "heads of all, points of one"
    with pytest.raises(MossError, match="meets the box"):
        read_source(str(folder), Wanted(box=(900.0, 0.0, 950.0, 10.0)))
    some = read_source(str(folder), Wanted(classes=(2,), every=2)).cloud
    assert set(some.attributes["classification"]) == {2} and set(some.attributes["tile"]) == {0, 1, 2}


def test_files_that_do_not_go_together_are_named(folder, tmp_path):
    write_cloud(folder / "zz.laz", tile(4, crs="EPSG:32629"))
    with pytest.raises(MossError, match=r"zz\.laz lies in another reference system"):
        read_source(str(folder))
    write_cloud(folder / "zz.laz", tile(4, note=np.ones(500, np.float32)))
    made = read_source(str(folder))
    assert "note" not in made.cloud.attributes and any("left out: note" in r for r in made.remarks)
    empty = tmp_path / "empty"
    empty.mkdir()
    with pytest.raises(AskedWronglyError, match="holds no LAS"):
        read_source(str(empty))


def test_a_cloud_of_several_files_is_written_with_the_number_of_each(folder, tmp_path):
    cloud = read_source(str(folder)).cloud
    write_cloud(tmp_path / "whole.laz", cloud)
    back = read_source(str(tmp_path / "whole.laz")).cloud
    for name, values in cloud.attributes.items():
        np.testing.assert_array_equal(back.attributes[name], values, err_msg=name)


def test_a_change_of_one_file_is_a_change_of_the_source(folder):
    from moss_step.study.sources import Sources

    first = Sources().look(str(folder))
    write_cloud(folder / "tile_1.laz", tile(7))
    assert first is not None and Sources().look(str(folder)) != first
    assert Sources().look(str(folder / "nothing*.laz")) is None


def test_a_cloud_larger_than_memory_is_mapped_and_worked_through_in_blocks(folder, monkeypatch):
    from moss_step.science.points import blocks, grids
    from moss_step.steps import cloud_classes

    plain = read_source(str(folder)).cloud
    monkeypatch.setattr(mapped, "free_memory", lambda: 1000)
    cloud = read_source(str(folder)).cloud
    assert isinstance(cloud.x, np.memmap) and isinstance(cloud.attributes["intensity"], np.memmap)
    assert cloud.nbytes == 0
    np.testing.assert_array_equal(cloud.z, plain.z)
    for module in (blocks, grids, cloud_classes):
        monkeypatch.setattr(module, "MOST", 200)
    for what in ("count", "mean", "highest", "lowest", "spread", "intensity", "density"):
        one, other = (
            run_declared(
                catalogue()["grid_points"], {"what": what, "cell": 10.0, "fill": 0.0}, {"cloud": c}, silent()
            ).value
            for c in (cloud, plain)
        )
        np.testing.assert_allclose(one.values, other.values, rtol=1e-6, err_msg=what)
    bare = run_declared(catalogue()["ground_points"], {"noise": False}, {"cloud": cloud}, silent())
    assert len(bare.value) == 1500 and bare.value.attributes["classification"].dtype == np.uint8


def test_a_disk_without_room_is_said(monkeypatch):
    def full(*_):
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(mapped.os, "posix_fallocate", full)
    with pytest.raises(MossError, match="no room for"):
        mapped.room_for(10, np.float64, True)


# --- plain text

ROWS = [(1.5, 2.5, 10.25, 2, 100), (3.0, 4.0, 11.5, 5, 200)]


@pytest.mark.parametrize(
    ("text", "names"),
    [
        ("1.5 2.5 10.25 2 100\n3.0 4.0 11.5 5 200\n", ["value_1", "value_2"]),
        ("1.5,2.5,10.25,2,100\n3.0,4.0,11.5,5,200\n", ["value_1", "value_2"]),
        ("1,5;2,5;10,25;2;100\n3,0;4,0;11,5;5;200\n", ["value_1", "value_2"]),
        ("1.5\t2.5\t10.25\t2\t100\n3.0\t4.0\t11.5\t5\t200\n", ["value_1", "value_2"]),
        (
            "# a survey\nx y z class intensity\n1.5 2.5 10.25 2 100\n3.0 4.0 11.5 5 200\n",
            ["classification", "intensity"],
        ),
        (
            '"Easting";"Northing";"Height";"Class";"I"\n1,5;2,5;10,25;2;100\n3,0;4,0;11,5;5;200\n',
            ["classification", "intensity"],
        ),
        ("class,z,x,y,intensity\n2,10.25,1.5,2.5,100\n5,11.5,3.0,4.0,200\n", ["classification", "intensity"]),
        ("\ufeffX,Y,Z,code,i\n1.5,2.5,10.25,2,100\n3.0,4.0,11.5,5,200", ["classification", "intensity"]),
    ],
)
def test_columns_of_text_are_points(tmp_path, text, names):
    path = tmp_path / "a.xyz"
    path.write_text(text, encoding="utf-8")
    columns = read_points(path)
    assert [(columns["x"][k], columns["y"][k], columns["z"][k]) for k in range(2)] == [r[:3] for r in ROWS]
    assert sorted(set(columns) - {"x", "y", "z"}) == sorted(names)
    assert columns[names[0]].tolist() == [2, 5] and columns[names[1]].tolist() == [100, 200]
    if "classification" in names:
        assert columns["classification"].dtype == np.uint8 and columns["intensity"].dtype == np.uint16


@pytest.mark.parametrize(
    ("content", "words"),
    [
        (b"1 2\n3 4\n", "three columns"),
        (b"x y h2 w\n1 2 3 4\n", "no column z"),
        (b"1 2 3\n4 five 6\n", "no table of numbers near line 2"),
        (b"1 2 3\n4 5\n", "no table of numbers"),
        (b"\0\1\2", "no text"),
        (b"# only remarks\n", "no line of numbers"),
        (b"x y z\n", "no three columns"),
    ],
)
def test_text_that_is_no_points_ends_in_words(tmp_path, content, words):
    path = tmp_path / "a.xyz"
    path.write_bytes(content)
    with pytest.raises(MossError, match=words):
        read_points(path)


def test_text_becomes_a_cloud_with_what_is_stated(tmp_path):
    path = tmp_path / "a.xyz"
    rng = np.random.default_rng(1)
    np.savetxt(path, np.column_stack([rng.uniform(0, 100, (400, 2)), rng.normal(5, 1, 400)]), "%.3f")
    outcome = run({"source": str(path), "unit": "foot", "height_unit": "foot"})
    cloud = outcome.value
    assert len(cloud) == 400 and cloud.unit == FOOT and cloud.frame.metres_per_unit == 0.3048
    density = next(f.value for f in outcome.findings if f.name == "density")
    assert density == pytest.approx(400 / (100 * 0.3048) ** 2, rel=0.15)
    assert len(run({"source": str(path), "every": 4}).value) == 100
    with pytest.raises(AskedWronglyError, match="says the unit of the plan"):
        run({"source": str(path), "crs": UTM, "unit": "foot"})
    with pytest.raises(MossError, match="no head"):
        outcome.beside["tiles"]()


def test_some_points_of_a_large_source_come_from_everywhere_in_it(folder, monkeypatch):
    assert cloud_source.read_foretaste(str(folder)) is None, "it is small"
    monkeypatch.setattr(cloud_source, "_LARGE", 1000)
    monkeypatch.setattr(cloud_source, "_TASTE", 10)
    some = cloud_source.read_foretaste(str(folder))
    assert len(some) == 15 * 10 and some.attributes["classification"].dtype == np.uint8
    whole = read_source(str(folder)).cloud
    places = set(zip(whole.x.tolist(), whole.y.tolist(), whole.z.tolist(), strict=True))
    assert all(
        place in places for place in zip(some.x.tolist(), some.y.tolist(), some.z.tolist(), strict=True)
    )
    assert {int(x // 100) for x in some.x} == {0, 1, 2}


# --- what a folder as a source must not break


def test_a_result_never_takes_the_place_of_a_file_of_its_folder(folder, capsys):
    from moss_step.cli import main

    own = (folder / "tile_1.laz").read_bytes()
    for source in (str(folder), str(folder / "*.laz")):
        code = main(
            [
                "do",
                "noise_points",
                f"cloud={source}",
                "-o",
                str(folder / "tile_1.laz"),
                "--overwrite",
                "--quiet",
            ]
        )
        said = capsys.readouterr().err
        if source == str(folder):
            assert code == 2 and "is read for this" in said, said
        assert (folder / "tile_1.laz").read_bytes() == own


def test_a_folder_that_may_not_be_read_is_said(folder, monkeypatch, capsys):
    from pathlib import Path

    from moss_step.cli import main
    from moss_step.formats.cloud_source import read_foretaste
    from moss_step.study.sources import Sources

    def barred(self):
        raise PermissionError(13, "Permission denied", str(self))

    monkeypatch.setattr(Path, "iterdir", barred)
    for ask in (
        lambda: read_source(str(folder)),
        lambda: read_foretaste(str(folder)),
        lambda: opening(folder),
    ):
        with pytest.raises(MossError, match="no permission"):
            ask()
    assert Sources().look(str(folder)) is None
    assert main(["do", "noise_points", f"cloud={folder}", "-o", str(folder / "o.laz"), "--quiet"]) == 1
    assert "no permission" in capsys.readouterr().err


def test_a_study_over_several_files_is_in_order_while_they_are_there(folder, tmp_path, capsys):
    from moss_step.cli import main
    from moss_step.study.graph import Step, Study
    from moss_step.study.saving import save_study

    for source, code in ((folder, 0), (folder / "*.laz", 0), (folder / "*.las", 2)):
        study = Study(steps=(Step(id="a", kind="open_cloud", settings={"source": str(source)}),))
        save_study(study, tmp_path / "a.moss")
        assert main(["check", str(tmp_path / "a.moss")]) == code, capsys.readouterr()


def test_a_table_of_points_with_empty_fields_comes_back(tmp_path):
    from moss_step.kinds.registry import kind_named
    from moss_step.model.outcome import Outcome

    above = np.array([1.5, np.nan, np.nan], np.float64)
    cloud = Cloud(
        np.arange(3.0),
        np.arange(3.0),
        np.arange(3.0),
        {"height_above": above, "last": above[::-1].copy()},
        None,
        METRE,
    )
    kind_named("cloud").write(Outcome(cloud, ""), "a", tmp_path / "a.csv", None)
    back = kind_named("cloud").read(str(tmp_path / "a.csv"), silent())[0]
    np.testing.assert_array_equal(back.attributes["height_above"], above)
    np.testing.assert_array_equal(back.attributes["last"], above[::-1])
    (tmp_path / "b.xyz").write_text("x;y;z;w\n1,5;2;3;\n;2;3;7\n")
    held = read_points(tmp_path / "b.xyz")
    assert np.isnan(held["x"][1]) and np.isnan(held["w"][0]) and held["w"][1] == 7.0


def test_the_density_of_a_file_is_of_square_metres(tmp_path):
    rng = np.random.default_rng(2)
    east, north = 1.0 / 55_800.0, 1.0 / 111_412.0  # degrees a metre at 60 north
    for k in range(2):
        x, y = rng.uniform(0, 200, (2, 8000))
        places = 10.0 + (x + 200.0 * k) * east, 60.0 + y * north
        write_cloud(tmp_path / f"{k}.laz", Cloud(*places, np.zeros(8000), {}, "EPSG:4326", METRE))
    boxes = run({"source": str(tmp_path)}).beside["tiles"]().value
    assert boxes.columns["density"] == pytest.approx([0.2, 0.2], rel=0.02)


def test_a_cloud_larger_than_memory_is_not_copied_to_the_shelf(folder, monkeypatch):
    from moss_step.study.shelf import NotPlainError, as_parts

    monkeypatch.setattr(mapped, "free_memory", lambda: 1000)
    outcome = run({"source": str(folder)})
    assert as_parts(outcome)[1], "a small one is"
    monkeypatch.setattr(mapped, "LARGE", 1000)
    with pytest.raises(NotPlainError):
        as_parts(outcome)


def test_no_more_than_a_share_of_the_disk_is_taken_by_a_claim(monkeypatch):
    from collections import namedtuple

    usage = namedtuple("usage", "total used free")
    monkeypatch.setattr(mapped.shutil, "disk_usage", lambda _: usage(10**9, 0, 10**6), raising=False)
    with pytest.raises(MossError, match="no room for"):
        mapped.room_for(10**6, np.float64, True)
