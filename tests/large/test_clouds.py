"""The ground and the canopy of clouds in blocks: to the bit as one process lays them, by workers, after a kill."""

import json
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from moss_step.cli import main
from moss_step.demo import DATA
from moss_step.formats.raster import read_surface
from moss_step.large import clouds, works
from moss_step.large.crew import Alone
from moss_step.large.hands import workers_here
from moss_step.large.jobs import left_on_disk
from moss_step.large.mapped import _begin as begin
from moss_step.large.running import LargeRun
from moss_step.model.cloud import Cloud
from moss_step.model.outcome import Outcome
from moss_step.model.progress import silent
from moss_step.model.units import FOOT, METRE
from moss_step.science.points import blocks, grids
from moss_step.science.points.blocks import blocks_of
from moss_step.steps.cloud_grids import grid_points_step as step
from moss_step.study.declared import run_declared
from moss_step.study.engine import Engine
from moss_step.study.graph import Step, Study
from tests.large.held import Ending, assert_cells_alike, assert_said_alike, in_tiles

UTM, TILE = "EPSG:32628", 512 * 512


def scene(count: int = 30_000) -> tuple[np.ndarray, ...]:
    """Places in a square of 60 metres with a gap, heights, and those above the ground."""
    dice = np.random.default_rng(4)
    east, north = dice.uniform(0.0, 60.0, (2, count))
    kept = np.hypot(east - 20.0, north - 35.0) > 7.0
    east, north = east[kept], north[kept]
    floor = 100.0 + 3.0 * np.sin(east / 7.0) + 2.0 * np.cos(north / 5.0)
    return east, north, floor, np.where(dice.random(len(east)) < 0.4, dice.uniform(1.0, 9.0, len(east)), 0.0)


def in_metres() -> Cloud:
    east, north, floor, above = scene()
    held = {"height_above": above.astype(np.float32)}
    return Cloud(412_000.0 + east, 5_872_000.0 + north, floor, held, UTM, METRE)


def in_degrees_and_feet() -> Cloud:
    """At 65 north, where a degree to the east is 47 km wide."""
    east, north, floor, above = scene()
    held = {"height_above": (above / FOOT.factor).astype(np.float32)}
    return Cloud(
        -3.0 + east / 47_176.0, 65.0 + north / 111_556.0, floor / FOOT.factor, held, "EPSG:4326", FOOT
    )


def in_blocks(monkeypatch: pytest.MonkeyPatch, most: int) -> None:
    """Have clouds of more points than that go in blocks of so many."""
    for module in (blocks, grids, clouds):
        monkeypatch.setattr(module, "MOST", most)
    for module in (grids, clouds):
        monkeypatch.setattr(module, "blocks_of", lambda c: blocks_of(c, most))


@pytest.fixture
def many(monkeypatch: pytest.MonkeyPatch) -> None:
    """Clouds of some thousand points go in blocks."""
    in_blocks(monkeypatch, 2000)


@pytest.mark.parametrize("made", [in_metres, in_degrees_and_feet])
@pytest.mark.parametrize(
    "asked",
    [
        {"what": "ground", "fill": 3.0},
        {"what": "ground", "fill": 2.0, "between": "inverse_distance"},
        {"what": "canopy", "fill": 3.0},
    ],
    ids=["triangles", "by distance", "canopy"],
)
def test_blocks_give_what_one_process_gives(
    made: Callable[[], Cloud], asked: dict[str, Any], many: None, tmp_path: Path
) -> None:
    cloud = made()
    if asked["what"] == "ground":
        asked = asked | {"classes": (1,)}
        cloud = replace(cloud, attributes={"classification": np.where(np.arange(len(cloud)) % 3, 1, 5)})
    settings = step.checked(asked | {"cell": 1.0 if cloud.crs == UTM else 2e-5})
    expected = run_declared(step, settings, {"cloud": cloud}, silent())
    job = clouds.grid({"cloud": cloud}, settings)
    assert job is not None and len(list(blocks_of(cloud, 2000).places())) > 8
    target = begin(tmp_path / "made.tif", job.like, job.frame)
    (tmp_path / "work").mkdir()
    told = job.run(Alone(), target, tmp_path / "work", TILE, silent())
    found = read_surface(target.path)[0]
    np.testing.assert_array_equal(found.values, expected.value.values)
    assert 0.02 < np.isnan(found.values).mean() < 0.5
    assert (found.unit, found.quantity) == (expected.value.unit, expected.value.quantity)
    assert [(f.name, f.value, f.unit) for f in told.findings] == [
        (f.name, pytest.approx(f.value, rel=1e-12), f.unit) for f in expected.findings
    ]
    assert (told.figure, set(told.warnings)) == (expected.figure, set(expected.warnings))
    assert not list((tmp_path / "work").glob("*-points-*")), "points of blocks are let go of"


def test_what_is_looked_at_all_at_once_goes_another_way(many: None) -> None:
    cloud = in_metres()
    for asked in ({"what": "ground", "fill": 0.0}, {"what": "highest"}, {"what": "density"}):
        assert clouds.grid({"cloud": cloud}, step.checked(asked)) is None
    few = cloud.part(slice(0, 1500))
    assert clouds.grid({"cloud": few}, step.checked({"classes": (), "what": "canopy"})) is None


@pytest.fixture
def study() -> Study:
    """The ground of a survey, its slope, and its canopy in the cells of a grid."""
    return Study(
        steps=(
            Step(id="cloud", kind="open_cloud", settings={"source": str(DATA / "harrow_survey.laz")}),
            Step(id="dem", kind="open_grid", settings={"source": str(DATA / "harrow_ground.tif")}),
            Step(id="ground", kind="grid_points", inputs={"cloud": "cloud"}, settings={"cell": 0.5, "classes": (0, 1, 2)}),
            Step(id="slope", kind="slope", inputs={"dem": "ground"}),
            Step(id="like", kind="grid_points", inputs={"cloud": "cloud", "like": "dem"}, settings={"classes": (0, 1, 2)}),
        )
    )  # fmt: skip


@pytest.fixture
def small(monkeypatch: pytest.MonkeyPatch) -> None:
    """Clouds of some ten thousand points go in blocks."""
    in_blocks(monkeypatch, 30_000)


def whole(study: Study, *refs: str) -> dict[str, Outcome]:
    engine = Engine()
    return {ref: engine.run_or_raise(study, ref) for ref in refs}


def test_workers_lay_what_one_process_lays(study: Study, small: None, tmp_path: Path) -> None:
    """And go on from there tile by tile; in the cells of a grid that stays on the disk, too."""
    expected = whole(study, "ground", "slope", "like")
    (tmp_path / "work").mkdir()
    with workers_here(2) as crew:
        run = LargeRun(study, Engine(), crew, tmp_path / "work", left_on_disk(study, study.steps, True), TILE)
        for written in run.results(expected, silent()):
            assert written.file is not None
            assert_said_alike(written, expected[written.ref], 1e-6)
            assert_cells_alike(written, expected[written.ref], 0.0)


def test_a_run_that_ended_goes_on_with_the_blocks_that_are_missing(
    study: Study, small: None, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    expected, work, laid = whole(study, "ground"), tmp_path / "work", list[str]()
    lay = clouds.LayWork.work_out

    def counted(own: clouds.LayWork, tile: Any, points: Cloud) -> np.ndarray:
        laid.append(tile.name)
        return lay(own, tile, points)

    monkeypatch.setattr(clouds.LayWork, "work_out", counted)
    work.mkdir()
    run = LargeRun(study, Engine(), Ending("Laying triangles", 4), work, {}, TILE)
    with pytest.raises(InterruptedError):
        list(run.results(["ground"], silent()))
    begun = {f.name.partition("-laid-")[2].removesuffix(".cells") for f in work.rglob("*-laid-*.cells")}
    assert len(begun) >= 4
    laid.clear()
    (written,) = in_tiles(study, ["ground"], work, TILE)
    assert begun.isdisjoint(laid) and laid
    assert_said_alike(written, expected["ground"], 1e-6)
    assert_cells_alike(written, expected["ground"], 0.0)


def test_a_study_of_points_alone_goes_to_workers_where_these_are_asked_for(
    small: None, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    steps = [
        {"id": "cloud", "kind": "open_cloud", "settings": {"source": str(DATA / "harrow_survey.laz")}},
        {"id": "ground", "kind": "grid_points", "inputs": {"cloud": "cloud"}, "settings": {"cell": 1.0, "classes": [0, 1, 2]}},
    ]  # fmt: skip
    (tmp_path / "study.moss").write_text(json.dumps({"moss_step_study": 2, "name": "points", "steps": steps}))
    ran, real = list[str](), works.work_of
    run = clouds.CloudJob.run

    def noted(job: clouds.CloudJob, crew: Any, *how: Any) -> Any:
        ran.append(type(crew).__name__)
        return run(job, crew, *how)

    monkeypatch.setattr(clouds.CloudJob, "run", noted)
    words = ["run", str(tmp_path / "study.moss"), "-q", "-o"]
    for options, out in (
        ([], "here"),
        (["--tile-cells", "262144"], "tiles"),
        (["--workers", "1"], "workers"),
    ):
        assert main([*words, str(tmp_path / out), *options]) == 0
    assert ran == ["Alone", "Ahead"] and real("grid_points") is clouds.grid
    made = [
        read_surface(next((tmp_path / out).glob("ground*.tif")))[0] for out in ("here", "tiles", "workers")
    ]
    for one in made[1:]:
        np.testing.assert_array_equal(one.values, made[0].values)
