"""Changes between surveys in strips: to the bit as in one piece, by workers, after a kill, on damaged files."""

from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import rasterio
import shapely

from moss_step.formats.raster_write import write_surface
from moss_step.formats.vector import write_shapes
from moss_step.kinds.registry import cells_of, kind_of
from moss_step.large import changes
from moss_step.large.crew import Alone
from moss_step.large.hands import workers_here
from moss_step.large.jobs import left_on_disk
from moss_step.large.running import LargeRun
from moss_step.model.errors import MossError
from moss_step.model.progress import silent
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.study.engine import Engine
from moss_step.study.graph import Step, Study
from tests.grounds import large_grounds
from tests.large.held import Ending, assert_cells_alike, assert_said_alike, both_ways, damage, in_tiles

ROWS, COLS = 1300, 220
GROUNDS = large_grounds(ROWS, COLS)
OBLONG = "oblong cells, holes, feet"
CELLS = 4 * 512 * COLS
"""Of a tile: three strips of changes."""
WAYS = "plain", "counted", "inside"
BESIDE = "brought", "surely", "histogram", "patches", "lines"


def study_on(folder: Path, ground: Surface) -> Study:
    """A ground before and after it slid over a seam, and areas over seams; each way to ask for what changed."""
    dice, (low, high) = np.random.default_rng(8), ground.range
    slid = np.zeros(ground.values.shape)
    slid[480:640, 60:150] = (high - low) * 0.05
    shaken = dice.normal(0.0, (high - low) * 1e-3, slid.shape)
    after = (ground.values - slid + shaken).astype(ground.values.dtype)
    write_surface(folder / "before.tif", ground, "before")
    write_surface(folder / "after.tif", replace(ground, values=after), "after")
    f = ground.frame
    corners = ((450.2, 40.1), (500.7, 190.3), (1200.4, 180.8), (700.3, 30.6))
    area = shapely.Polygon([(f.x0 + col * f.dx, f.y0 - row * f.dy) for row, col in corners])
    write_shapes(folder / "areas.gpkg", Shapes(np.array([area], object), {}, f.crs), "areas")
    opened = [
        Step(id=n, kind="open_grid", settings={"source": f"{folder}/{n}.tif"}) for n in ("before", "after")
    ]
    opened.append(Step(id="areas", kind="open_shapes", settings={"source": f"{folder}/areas.gpkg"}))
    both = {"before": "before", "after": "after"}
    error = {"error_before": float(high - low) * 1e-3 * ground.metres_per_height, "error_after": 0.001}
    asked = {
        "plain": (both, error),
        "counted": (both, error | {"too_small": "counted", "reach": 50.0}),
        "inside": (both | {"area": "areas"}, error),
        "mean": (both | {"stable": "areas"}, error | {"offset": "mean"}),
    }
    steps = [Step(id=n, kind="survey_change", inputs=i, settings=s) for n, (i, s) in asked.items()]
    return Study(steps=(*opened, *steps))


@pytest.fixture
def strips(monkeypatch: pytest.MonkeyPatch) -> list[bool]:
    """Notes each run that went in strips: whether within areas."""
    ran, run = list[bool](), changes.ChangeJob.run

    def noted(job: changes.ChangeJob, *how: Any) -> Any:
        ran.append(job.asked.areas is not None)
        return run(job, *how)

    monkeypatch.setattr(changes.ChangeJob, "run", noted)
    return ran


@pytest.fixture(scope="module")
def source(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("changes")
    study_on(folder, GROUNDS[OBLONG]())
    return folder


@pytest.mark.parametrize("on", [OBLONG, "degrees at 65 north, mirrored"])
def test_strips_give_what_one_piece_gives(on: str, strips: list[bool], tmp_path: Path) -> None:
    """The same findings and changes, and all that stands beside them."""
    study = study_on(tmp_path, GROUNDS[on]())
    wanted = [*WAYS, *(f"{way}.{name}" for way in ("plain", "inside") for name in BESIDE)]
    for written, expected in both_ways(study, wanted, tmp_path / "work", CELLS):
        assert_said_alike(written, expected, 0.0)
        assert_cells_alike(written, expected, 0.0)
        if written.outcome is None:
            assert next(f.value for f in written.findings if f.name == "lowered") > 0.0
        elif kind_of(expected.value).array is not None:
            np.testing.assert_array_equal(cells_of(written.outcome.value), cells_of(expected.value))
        else:
            ours, theirs = written.outcome.value.columns, expected.value.columns
            assert ours.keys() == theirs.keys()
            for name, column in theirs.items():
                np.testing.assert_array_equal(ours[name], column, f"{written.ref} {name}")
    assert sorted(strips) == [False, False, True]


def test_what_strips_cannot_do_goes_another_way(strips: list[bool], tmp_path: Path) -> None:
    """Offsets, and double precision."""
    (folder := tmp_path / "offset").mkdir()
    study = study_on(folder, GROUNDS[OBLONG]())
    for written, expected in both_ways(study, ["mean"], folder / "work", CELLS):
        assert_said_alike(written, expected, 0.0)
        assert_cells_alike(written, expected, 0.0)
    (folder := tmp_path / "double").mkdir()
    ground = GROUNDS["small relief on a large base"]()
    study = study_on(folder, replace(ground, values=4000.0 + (ground.values - 4000.0) * 0.1))
    for written, expected in both_ways(study, ["plain"], folder / "work", CELLS):
        assert_said_alike(written, expected, 0.0)
        assert_cells_alike(written, expected, 0.0)
    assert strips == []


def test_a_record_names_the_surveys_and_their_content(source: Path, tmp_path: Path) -> None:
    study = study_on(source, GROUNDS[OBLONG]())
    record = Engine().run_or_raise(study, "inside.record").value.columns
    (_, written) = in_tiles(study, ["inside", "inside.record"], tmp_path / "work", CELLS)
    found, when = written.outcome.value.columns, record["what"] == "reckoned"
    assert when.sum() == 1 and any("before.tif (BLAKE3)" in what for what in record["what"])
    for name, column in record.items():
        np.testing.assert_array_equal(found[name][~when], column[~when], name)


def test_a_run_that_ended_goes_on_by_workers(
    source: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    study, work = study_on(source, GROUNDS[OBLONG]()), tmp_path / "work"
    expected, grids = Engine().run_or_raise(study, "inside"), left_on_disk(study, study.steps, True)
    work.mkdir()
    run = LargeRun(study, Engine(), Ending("Adding up changes", 1), work, grids, CELLS)
    with pytest.raises(InterruptedError):
        list(run.results(["inside"], silent()))
    with workers_here(2) as crew:
        (written,) = LargeRun(study, Engine(), crew, work, grids, CELLS).results(["inside"], silent())
    assert_said_alike(written, expected, 0.0)
    assert_cells_alike(written, expected, 0.0)
    worked = list[int]()
    change = changes.ChangeWork._change

    def counted(own: changes.ChangeWork, strip: Any, some: slice, rows: slice) -> Any:
        worked.append(rows.start)
        return change(own, strip, some, rows)

    monkeypatch.setattr(changes.ChangeWork, "_change", counted)
    (again,) = LargeRun(study, Engine(), Alone(), work, grids, CELLS).results(["inside"], silent())
    assert_said_alike(again, expected, 0.0)
    assert worked == [], "all strips are kept"


def test_a_damaged_strip_is_named_and_nothing_changed_there(source: Path, tmp_path: Path) -> None:
    study = study_on(source, GROUNDS[OBLONG]())
    expected = Engine().run_or_raise(study, "plain").value.values.copy()
    damage(source / "before.tif", 512 + 500)
    (tmp_path / "work").mkdir()
    grids = left_on_disk(study, study.steps, True)
    run = LargeRun(study, Engine(), Alone(), tmp_path / "work", grids, CELLS)
    (written,) = run.results(["plain"], silent())
    assert run.wrong
    with rasterio.open(written.file) as file:
        found = file.read(1, masked=True).filled(np.nan)
    expected[512:1024] = np.nan
    np.testing.assert_array_equal(found, expected)


def test_surveys_without_a_height_in_common_are_refused(tmp_path: Path) -> None:
    ground = GROUNDS[OBLONG]()
    study = study_on(tmp_path, ground)
    upper, lower = ground.values.copy(), ground.values.copy()
    upper[650:], lower[:650] = np.nan, np.nan
    for name, values in (("before", upper), ("after", lower)):
        write_surface(tmp_path / f"{name}.tif", replace(ground, values=values), name)
    with pytest.raises(MossError, match="no height in common"):
        list(in_tiles(study, ["plain"], tmp_path / "work", CELLS))
