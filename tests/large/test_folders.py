"""What lies in the folders of a run in tiles: links, older files with those beside them, sources, another run."""

import json
import os
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
import rasterio
import shapely

from moss_step.cli import main
from moss_step.formats.raster_write import write_surface
from moss_step.formats.tiled import lay_out, note_of, reopened
from moss_step.formats.vector import write_shapes
from moss_step.line.tiles import WORK
from moss_step.model.frame import Frame
from moss_step.model.shapes import Shapes
from moss_step.study.graph import Step, Study
from moss_step.study.saving import save_study
from tests.grounds import metric, relief

ROWS, COLS = 600, 700
TILES = ("-q", "--tile-cells", "300000")


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    write_surface(tmp_path / "ground.tif", metric(relief(5, ROWS, COLS)), "ground")
    save_study(study(tmp_path / "ground.tif"), tmp_path / "s.moss")
    return tmp_path


def study(source: Path, *more: Step) -> Study:
    ground = Step(id="ground", kind="open_grid", settings={"source": str(source)})
    slope = Step(id="slope", kind="slope", inputs={"dem": "ground"}, name="slope")
    steep = Step(
        id="steep",
        kind="classify",
        inputs={"surface": "slope"},
        settings={"rules": "fao_slope"},
        name="steep",
    )
    return Study(steps=(ground, slope, steep, *more))


def area_on(folder: Path, name: str, area: shapely.Geometry) -> Step:
    """A step that opens an area."""
    source = folder / f"{name}.geojson"
    write_shapes(source, Shapes(np.array([area], object), {}, "EPSG:32628"), name)
    return Step(id=name, kind="open_shapes", settings={"source": str(source)})


def run(folder: Path, *words: str) -> int:
    return main(["run", str(folder / "s.moss"), "-o", str(folder / "out"), *TILES, *words])


def test_a_link_in_the_place_of_the_work_folder_is_refused_and_what_it_names_stays(
    folder: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    mine = folder / "mine"
    (mine / "letters").mkdir(parents=True)
    (mine / "letters" / "one.txt").write_text("keep")
    (folder / "out").mkdir()
    (folder / "out" / WORK).symlink_to(mine)
    assert run(folder) == 1
    assert "is a link" in capsys.readouterr().err
    assert (mine / "letters" / "one.txt").read_text() == "keep"
    assert len(list(mine.iterdir())) == 1


def test_links_within_the_work_folder_are_not_followed(folder: Path) -> None:
    """A folder of results from elsewhere, in which a file of the work is a link to one of the person's own."""
    own = folder / "own.tif"
    code = "import sys; from moss_step.large import running, chain; chain.ChainWork.finish = lambda *a: sys.exit(9); from moss_step.cli import main; main(sys.argv[1:])"
    words = ["run", str(folder / "s.moss"), "-o", str(folder / "out"), *TILES]
    subprocess.run([sys.executable, "-c", code, *words], check=False, capture_output=True)
    (made,) = (folder / "out").glob(f"{WORK}/*/slope.tif")
    made.rename(own)
    before = own.read_bytes()
    made.symlink_to(own)
    assert run(folder) == 0
    assert own.read_bytes() == before


def test_an_older_result_goes_with_what_lies_beside_it(folder: Path) -> None:
    assert main(["run", str(folder / "s.moss"), "-o", str(folder / "out"), "-q"]) == 0
    (beside,) = (folder / "out").glob("steep*.tif.aux.xml")
    (folder / "out" / "slope_slope.tif.ovr").write_bytes(b"of the older one")
    assert "Table" in beside.read_text()
    assert run(folder) == 0
    assert not (folder / "out" / "slope_slope.tif.ovr").exists()
    assert not beside.exists() or "Count" in beside.read_text()
    assert not list((folder / "out").glob(".moss-*"))


def test_a_result_never_takes_the_place_of_a_source(folder: Path, capsys: pytest.CaptureFixture[str]) -> None:
    (folder / "out").mkdir()
    source = folder / "out" / "slope_slope.tif"
    source.write_bytes((folder / "ground.tif").read_bytes())
    save_study(study(source), folder / "s.moss")
    before = source.read_bytes()
    assert run(folder) == 2
    assert "would be replaced" in capsys.readouterr().err
    assert source.read_bytes() == before


def test_a_source_that_changes_while_it_is_read_is_said(
    folder: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    from moss_step.large.chain import ChainWork

    finish = ChainWork.finish

    def touching(*args: object) -> object:
        os.utime(folder / "ground.tif", (1, 1))
        return finish(*args)  # type: ignore[arg-type] # handed on as they come

    monkeypatch.setattr(ChainWork, "finish", touching)
    assert run(folder) == 1
    assert "changed while it was read" in capsys.readouterr().err
    assert not json.loads((folder / "out" / "results.json").read_text())["complete"]


def test_a_second_run_into_the_same_folder_is_refused(
    folder: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    from moss_step.large.running import LargeRun

    results, codes = LargeRun.results, list[int]()

    def meanwhile(*args: object) -> object:
        if not codes:
            words = [
                sys.executable,
                "-m",
                "moss_step",
                "run",
                str(folder / "s.moss"),
                "-o",
                str(folder / "out"),
                *TILES,
            ]
            done = subprocess.run(words, check=False, capture_output=True, text=True)
            codes.append(done.returncode)
            assert "another run" in done.stderr
        return results(*args)  # type: ignore[arg-type] # handed on as they come

    monkeypatch.setattr(LargeRun, "results", meanwhile)
    assert run(folder) == 0
    assert codes == [1]
    assert run(folder) == 0  # and it is free again


def test_a_note_that_does_not_fit_its_file_is_no_use(tmp_path: Path) -> None:
    path, note = tmp_path / "t.tif", tmp_path / "t.json"
    frame = Frame(700, 600, 0, 0, 1, 1)
    target = lay_out(path, frame, np.dtype(np.float32), -9999.0, lambda _: None)
    about = json.loads(note_of(target))
    for wrong in (
        {"first": 0},
        {"first": target.first + 1},
        {"first": 2 * target.first},
        {"first": "x"},
        {"no_data": "x"},
    ):
        note.write_text(json.dumps({**about, **wrong}))
        assert reopened(note, path, frame, np.dtype(np.float32)) is None, wrong
    note.write_text(json.dumps(about))
    assert reopened(note, path, frame, np.dtype(np.float32)) == target
    assert reopened(note, path, frame, np.dtype(np.uint8)) is None
    assert reopened(note, path, Frame(1300, 600, 0, 0, 1, 1), np.dtype(np.float32)) is None


def test_a_grid_in_memory_goes_with_one_on_the_disk(folder: Path) -> None:
    """One result is worked out as a whole, in memory, and meets the ground of the disk cell on cell."""
    whole = Step(id="whole", kind="breach", inputs={"dem": "ground"})
    less = Step(id="less", kind="difference", inputs={"first": "ground", "second": "whole"}, name="less")
    save_study(study(folder / "ground.tif", whole, less), folder / "s.moss")
    assert main(["run", str(folder / "s.moss"), "-o", str(folder / "one"), "-q", "--only", "less"]) == 0
    assert run(folder, "--only", "less") == 0
    ours, theirs = (
        rasterio.open(folder / of / "less_less.tif").read(1, masked=True) for of in ("out", "one")
    )
    np.testing.assert_array_equal(ours.filled(0), theirs.filled(0))


def test_what_is_wrong_with_a_source_is_said_whatever_lies_between(
    folder: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    with rasterio.open(folder / "ground.tif") as file:
        at = int(file.get_tag_item("BLOCK_OFFSET_1_1", "TIFF", bidx=1))
    data = bytearray((folder / "ground.tif").read_bytes())
    data[at : at + 400] = bytes(400)
    (folder / "ground.tif").write_bytes(bytes(data))
    areas = area_on(folder, "areas", shapely.box(412000, 5866000, 419000, 5872000))
    zones = Step(id="zones", kind="zone_statistics", inputs={"zones": "areas", "surface": "slope"})
    save_study(study(folder / "ground.tif", areas, zones), folder / "s.moss")
    assert run(folder, "--only", "zones") == 1
    assert "cannot be read in rows" in capsys.readouterr().err


def test_infinite_values_are_said(folder: Path, capsys: pytest.CaptureFixture[str]) -> None:
    with rasterio.open(folder / "ground.tif", "r+", IGNORE_COG_LAYOUT_BREAK="YES") as file:
        values = file.read(1)
        values[100:104, 50] = np.inf
        file.write(values, 1)
    assert run(folder, "--json") == 0
    assert "Infinite values are taken as no-data" in capsys.readouterr().out


def test_a_step_that_records_its_sources_names_them_in_tiles_too(folder: Path) -> None:
    area = area_on(folder, "area", shapely.box(413000, 5869000, 415000, 5871000))
    dug = Step(
        id="dug",
        kind="cut_fill",
        inputs={"surface": "ground", "area": "area"},
        settings={"against": "edge"},
        name="dug",
    )
    save_study(study(folder / "ground.tif", area, dug), folder / "s.moss")
    assert main(["run", str(folder / "s.moss"), "-o", str(folder / "one"), "-q", "--only", "dug.record"]) == 0
    assert run(folder, "--only", "dug.record") == 0
    ours, theirs = (next((folder / of).glob("dug*.csv")).read_text().splitlines() for of in ("out", "one"))
    assert any("ground.tif" in line for line in theirs)
    timeless = [[line for line in some if not line.startswith("reckoned,")] for some in (ours, theirs)]
    assert timeless[0] == timeless[1] and len(timeless[0]) == len(ours) - 1
