"""Cut and fill in strips: to the bit as in one piece, by workers, after a kill, on damaged files."""

from collections.abc import Mapping
from contextlib import nullcontext
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import rasterio
import shapely

from moss_step.formats.raster_write import write_surface
from moss_step.formats.tiled import TiledFile
from moss_step.formats.vector import write_shapes
from moss_step.large import volumes
from moss_step.large.crew import Alone
from moss_step.large.hands import workers_here
from moss_step.large.jobs import left_on_disk
from moss_step.large.mapped import InTiles
from moss_step.large.running import LargeRun
from moss_step.model.errors import MossError
from moss_step.model.progress import silent
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.study.engine import Engine
from moss_step.study.graph import Step, Study
from tests.grounds import large_grounds, metric, relief
from tests.large.held import (
    Ending,
    as_if_large,
    assert_cells_alike,
    assert_said_alike,
    both_ways,
    damage,
    in_tiles,
)

ROWS, COLS = 1300, 220
GROUNDS = large_grounds(ROWS, COLS)
OBLONG = "oblong cells, holes, feet"
AGAINST = ("level", "lowest", "plane", "edge", "surface")
CELLS = 4 * 512 * COLS
"""Of a tile: three strips of cut and fill."""
STRIP = "Reckoning outlines"


def outlines(ground: Surface) -> Shapes:
    """A ring over all strips that is nearly all of the ground, one that lies askew over a seam, one in the last
    strip alone, and a hole of the first, which overlaps two of them.
    """
    f = ground.frame

    def at(*places: tuple[float, float]) -> list[tuple[float, float]]:
        return [(f.x0 + col * f.dx, f.y0 - row * f.dy) for row, col in places]

    ring = shapely.Polygon(
        at((1.9, 1.8), (1.7, COLS - 1.6), (ROWS - 1.7, COLS - 2.2), (ROWS - 2.2, 1.6)),
        [at((500.5, 60.2), (700.1, 70.7), (690.3, 130.9), (505.2, 120.4))],
    )
    askew = shapely.Polygon(at((400.3, 30.1), (515.7, 200.2), (620.4, 90.8)))
    within = shapely.Polygon(at((480.6, 50.5), (480.6, 140.5), (540.2, 140.5), (540.2, 50.5)))
    low = shapely.Polygon(at((1030.2, 20.3), (1030.2, 90.6), (1100.8, 88.8)))
    return Shapes(np.array([ring, askew, low, within], object), {}, f.crs)


def study_on(folder: Path, ground: Surface, more: Mapping[str, Any] | None = None) -> Study:
    """Each way of cut and fill of these outlines, on files of a folder."""
    write_surface(folder / "ground.tif", ground, "ground")
    dice = np.random.default_rng(3)
    low, high = ground.range
    before = ground.values + dice.normal(0.0, (high - low) * 0.01, ground.values.shape)
    write_surface(folder / "before.tif", replace(ground, values=before.astype(ground.values.dtype)), "before")
    write_shapes(folder / "areas.gpkg", outlines(ground), "areas")
    opened = [
        Step(id=n, kind="open_grid", settings={"source": f"{folder}/{n}.tif"}) for n in ("ground", "before")
    ]
    opened.append(Step(id="areas", kind="open_shapes", settings={"source": f"{folder}/areas.gpkg"}))
    steps = []
    for against in AGAINST:
        settings = {"against": against, "swell": 1.2, **(more or {})}
        settings |= {"level": float(low + high) / 2} if against == "level" else {}
        inputs = {"surface": "ground", "area": "areas"} | ({"base": "before"} if against == "surface" else {})
        steps.append(Step(id=against, kind="cut_fill", inputs=inputs, settings=settings))
    return Study(steps=(*opened, *steps))


def assert_alike(found: Any, expected: Any) -> None:
    """The same values: to the bit where they are numbers."""
    if isinstance(expected, Surface):
        np.testing.assert_array_equal(found.values, expected.values)
        assert (found.unit, found.quantity, found.frame) == (
            expected.unit,
            expected.quantity,
            expected.frame,
        )
        return
    assert found.columns.keys() == expected.columns.keys()
    for name in set(expected.columns) - {"reckoned"}:
        np.testing.assert_array_equal(found.columns[name], expected.columns[name], name)


@pytest.fixture
def strips(monkeypatch: pytest.MonkeyPatch) -> list[str]:
    """Notes each run that went in strips."""
    ran, run = list[str](), volumes.VolumeJob.run

    def noted(job: volumes.VolumeJob, *how: Any) -> Any:
        told = run(job, *how)
        ran.append(job.asked.settings.against)
        return told

    monkeypatch.setattr(volumes.VolumeJob, "run", noted)
    return ran


@pytest.fixture(scope="module")
def source(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("volumes")
    study_on(folder, GROUNDS[OBLONG]())
    return folder


@pytest.mark.parametrize("on", [OBLONG, "degrees at 65 north, mirrored"])
def test_strips_give_what_one_piece_gives(on: str, strips: list[str], tmp_path: Path) -> None:
    """Outlines over the seams, with a hole, and one over the other; the same findings, remarks and depths."""
    study = study_on(tmp_path, GROUNDS[on]())
    beside = [f"{a}.{name}" for a in AGAINST for name in ("base", "outlines", "corners")]
    for written, expected in both_ways(study, [*AGAINST, *beside], tmp_path / "work", CELLS):
        assert_said_alike(written, expected, 0.0)
        assert_cells_alike(written, expected, 0.0)
        if written.outcome is not None:
            assert_alike(written.outcome.value, expected.value)
            continue
        assert next(f.value for f in written.findings if f.name == "fill") > 0.0 or written.ref == "lowest"
    assert sorted(strips) == sorted(AGAINST)


def test_what_strips_cannot_do_goes_another_way(strips: list[str], tmp_path: Path) -> None:
    """Double precision, and depths that single precision would blur."""
    (folder := tmp_path / "double").mkdir()
    low = 4000.0 + np.round(relief(5, ROWS, COLS) * 1e-5, 7)
    study = study_on(folder, Surface(low, GROUNDS[OBLONG]().frame))
    for written, expected in both_ways(study, ["plane", "surface"], folder / "work", CELLS):
        assert_said_alike(written, expected, 0.0)
        assert_cells_alike(written, expected, 0.0)
    (folder := tmp_path / "flat").mkdir()
    flat = metric((4000.0 + np.round(relief(5, ROWS, COLS) * 1e-5, 3)).astype(np.float32))
    study = study_on(folder, flat)
    level = float(np.nanmin(flat.values)) - 500.1
    study = study.model_copy(
        update={
            "steps": tuple(
                s.model_copy(update={"settings": {**s.settings, "level": level}}) if s.id == "level" else s
                for s in study.steps
            )
        }
    )
    for written, expected in both_ways(study, ["level"], folder / "work", CELLS):
        assert expected.value.values.dtype == np.float64
        assert_said_alike(written, expected, 0.0)
        assert_cells_alike(written, expected, 0.0)
    assert strips == []


def test_a_ground_that_is_mapped_goes_in_strips_too(
    source: Path, strips: list[str], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """As in the window: with all that stands beside the depths, and no more of the ground than is looked at."""
    study, laid = study_on(source, GROUNDS[OBLONG]()), list[int]()
    refs = [f"{a}{b}" for a in AGAINST for b in ("", ".base", ".outlines", ".corners")]
    whole = Engine()
    expected = {ref: whole.run_or_raise(study, ref) for ref in (*refs, "edge.record")}
    as_if_large(monkeypatch)
    write = TiledFile.write

    def counted(file: TiledFile, rows: slice, cols: slice, values: np.ndarray) -> str:
        laid.append(rows.start)
        return write(file, rows, cols, values)

    monkeypatch.setattr(TiledFile, "write", counted)
    engine = Engine(in_tiles=InTiles(lambda _: nullcontext(Alone()), lambda: tmp_path, CELLS))
    for ref in refs:
        found = engine.run_or_raise(study, ref)
        assert_alike(found.value, expected[ref].value)
        assert set(found.warnings) == set(expected[ref].warnings)
        assert [(f.name, f.value) for f in found.findings] == [
            (f.name, f.value) for f in expected[ref].findings
        ]
    titles = [engine.run_or_raise(study, "edge.record"), expected["edge.record"]]
    names = [t.value.columns["what"].tolist() for t in titles]
    assert names[0] == names[1] and any("ground.tif" in n for n in names[0])
    assert sorted(strips) == sorted(AGAINST) and not any(p.is_file() for p in tmp_path.rglob("*"))
    small = outlines(GROUNDS[OBLONG]()).geometry[3:]
    write_shapes(source / "small.gpkg", Shapes(small, {}, GROUNDS[OBLONG]().frame.crs), "small")
    steps = [
        s.model_copy(update={"settings": {"source": f"{source}/small.gpkg"}}) if s.id == "areas" else s
        for s in study.steps
    ]
    laid.clear()
    engine = Engine(in_tiles=InTiles(lambda _: nullcontext(Alone()), lambda: tmp_path, 512 * COLS))
    engine.run_or_raise(Study(steps=tuple(steps)), "level")
    assert set(laid) == {0, 512}, "strips of the part, and of the ground no more than it"


def test_what_stands_beside_and_is_refused_leaves_the_depths(
    source: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    study = study_on(source, GROUNDS[OBLONG]())
    expected = Engine().run_or_raise(study, "level")

    def refused(*_: Any) -> Any:
        raise MossError("There is no room for bases.")

    monkeypatch.setattr(volumes.VolumeJob, "_base_heights", refused)
    as_if_large(monkeypatch)
    engine = Engine(in_tiles=InTiles(lambda _: nullcontext(Alone()), lambda: tmp_path, CELLS))
    np.testing.assert_array_equal(engine.run_or_raise(study, "level").value.values, expected.value.values)
    assert len(engine.run_or_raise(study, "level.outlines").value) == 4
    with pytest.raises(MossError, match="no room for bases"):
        engine.run_or_raise(study, "level.base")


def test_a_record_names_the_surveys_and_their_content(source: Path, tmp_path: Path) -> None:
    study = study_on(source, GROUNDS[OBLONG]())
    record = Engine().run_or_raise(study, "surface.record").value.columns
    (_, written) = in_tiles(study, ["surface", "surface.record"], tmp_path / "work", CELLS)
    found, when = written.outcome.value.columns, record["what"] == "reckoned"
    assert when.sum() == 1 and "base, content of before.tif (BLAKE3)" in record["what"].tolist()
    for name, column in record.items():
        np.testing.assert_array_equal(found[name][~when], column[~when], name)


def test_a_run_that_ended_goes_on(source: Path, tmp_path: Path) -> None:
    """With the strips that were not done, and those whose depths are not as they were written."""
    study, work = study_on(source, GROUNDS[OBLONG]()), tmp_path / "work"
    expected = Engine().run_or_raise(study, "edge")
    for doing in ("begun", "gone on"):
        work.mkdir(exist_ok=True)
        ending = Ending(STRIP, 1)
        run = LargeRun(study, Engine(), ending, work, left_on_disk(study, study.steps, True), CELLS)
        with pytest.raises(InterruptedError):
            list(run.results(["edge"], silent()))
        if doing == "begun":
            with (work / "edge.tif").open("r+b") as file:
                file.seek(-2000, 2)
                file.write(b"\1" * 1000)
    (written,) = in_tiles(study, ["edge"], work, CELLS)
    assert_said_alike(written, expected, 0.0)
    assert_cells_alike(written, expected, 0.0)


def test_strips_that_are_kept_are_not_worked_on_again(
    source: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    study, work, worked = study_on(source, GROUNDS[OBLONG]()), tmp_path / "work", list[int]()
    lay = volumes._lay

    def counted(*how: Any) -> Any:
        worked.append(how[3].row)
        return lay(*how)

    monkeypatch.setattr(volumes, "_lay", counted)
    work.mkdir()
    run = LargeRun(study, Engine(), Alone(), work, left_on_disk(study, study.steps, True), CELLS)
    list(run.results(["level"], silent()))
    assert set(worked) == {0, 1, 2}
    worked.clear()
    run = LargeRun(study, Engine(), Alone(), work, left_on_disk(study, study.steps, True), CELLS)
    list(run.results(["level"], silent()))
    assert worked == []
    with (work / "level.tif").open("r+b") as file:
        file.seek(-2000, 2)
        file.write(b"\1" * 1000)
    run = LargeRun(study, Engine(), Alone(), work, left_on_disk(study, study.steps, True), CELLS)
    list(run.results(["level"], silent()))
    assert set(worked) == {2}


def test_workers_reckon_what_one_piece_reckons(source: Path, tmp_path: Path) -> None:
    study, asked = study_on(source, GROUNDS[OBLONG]()), ["edge", "lowest", "surface"]
    (tmp_path / "work").mkdir()
    with workers_here(2) as crew:
        grids = left_on_disk(study, study.steps, True)
        run = LargeRun(study, Engine(), crew, tmp_path / "work", grids, CELLS)
        for written in run.results(asked, silent()):
            expected = Engine().run_or_raise(study, written.ref)
            assert_said_alike(written, expected, 0.0)
            assert_cells_alike(written, expected, 0.0)


def test_a_damaged_strip_is_named_and_counts_as_unmeasured(source: Path, tmp_path: Path) -> None:
    study = study_on(source, GROUNDS[OBLONG]())
    whole = Engine().run_or_raise(study, "level")
    damage(source / "ground.tif", 512 + 500)
    (tmp_path / "work").mkdir()
    run = LargeRun(study, Engine(), Alone(), tmp_path / "work", left_on_disk(study, study.steps, True), CELLS)
    (written,) = run.results(["level"], silent())
    assert run.wrong and any("has no height" in w for w in written.warnings)
    with rasterio.open(written.file) as file:
        found = file.read(1, masked=True).filled(np.nan)
    expected = whole.value.values.copy()
    expected[512:1024] = np.nan
    np.testing.assert_array_equal(found, expected)
    cut, all_of_it = (next(f.value for f in o.findings if f.name == "cut") for o in (written, whole))
    assert 0.0 < cut < all_of_it


def test_outlines_that_are_none_are_refused(tmp_path: Path) -> None:
    ground = GROUNDS[OBLONG]()
    study = study_on(tmp_path, ground)
    far = shapely.affinity.translate(outlines(ground).geometry[1], 1e6, 0.0)
    write_shapes(tmp_path / "areas.gpkg", Shapes(np.array([far], object), {}, ground.frame.crs), "areas")
    with pytest.raises(MossError, match="lies outside of the ground"):
        list(in_tiles(study, ["level"], tmp_path / "work", CELLS))
