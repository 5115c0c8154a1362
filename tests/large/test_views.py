"""Sight in tiles against that of one piece: by observer, and by bands of rays over all of the ground."""

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
import rasterio
import shapely

from moss_step.formats.address import Address
from moss_step.formats.raster_write import write_surface
from moss_step.formats.stored_tiles import StoredTiles
from moss_step.formats.vector import write_shapes
from moss_step.large import maps
from moss_step.large.crew import Alone
from moss_step.large.jobs import left_on_disk
from moss_step.large.running import LargeRun, Written
from moss_step.large.views import ViewJob, viewshed
from moss_step.large.works import work_of
from moss_step.model.errors import MossError
from moss_step.model.progress import silent
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.units import FOOT, NONE
from moss_step.steps.catalogue import step_kind
from moss_step.study.engine import Engine
from moss_step.study.graph import Step, Study
from tests.grounds import first, holed, in_degrees, large_grounds, metric, relief
from tests.large.held import Ending, assert_cells_alike, assert_said_alike, both_ways, in_tiles

ROWS, COLS = 700, 1100
GROUNDS = {
    "holes": lambda: metric(holed(relief(5, ROWS, COLS))),
    "feet, cells four times as wide as high, mirrored": lambda: replace(
        metric(holed(relief(6, ROWS, COLS))[:, ::-1], 20.0, 5.0), unit=FOOT
    ),
    "cells four times as high as wide": lambda: metric(relief(8, ROWS, COLS), 5.0, 20.0),
    "degrees at 65 north": lambda: in_degrees(relief(7, ROWS, COLS), 65.0),
    "small relief on a large base": lambda: Surface(
        4000.0 + relief(9, ROWS, COLS) * 1e-4, metric(relief(9, ROWS, COLS)).frame
    ),
}
OVERLOOKED, CELLS = large_grounds(560, 230), 512 * 230
SHARES = (0.2, 0.3), (0.5, 0.52), (0.52, 0.5), (0.99, 0.02), (0.5, 0.52)


def study_on(folder: Path, ground: Surface) -> tuple[Study, float]:
    """Observers whose views overlap, one at the rim, two at one place; from settings, and from points that have values of
    their own.
    """
    xmin, ymin, xmax, ymax = ground.frame.box
    wide, high = ground.frame.cell_metres
    reach = 0.2 * min(wide * ground.frame.cols, high * ground.frame.rows)
    at = [(xmin + u * (xmax - xmin), ymin + v * (ymax - ymin)) for u, v in SHARES]
    write_surface(folder / "ground.tif", ground, "ground")
    own = {
        "name": np.array([f"mast {k}" for k in range(4)], object),
        "height": np.array([4.0, 20.0, 9.0, 30.0]),
    }
    write_shapes(
        folder / "masts.gpkg",
        Shapes(np.array([shapely.Point(p) for p in at[:4]]), own, ground.frame.crs),
        "masts",
    )
    limits = {"bearing_from": 300.0, "bearing_to": 120.0, "near": reach / 10, "target_height": 2.0}
    plain = {"observer_height": 30.0, "reach": reach}
    return Study(
        steps=(
            Step(id="ground", kind="open_grid", settings={"source": str(folder / "ground.tif")}),
            Step(id="masts", kind="open_shapes", settings={"source": str(folder / "masts.gpkg")}),
            Step(id="plain", kind="viewshed", inputs={"dem": "ground"}, settings={**plain, "at": at}),
            Step(id="shapes", kind="viewshed", inputs={"dem": "ground", "observers": "masts"},
                 settings={**plain, **limits}),
        )
    ), reach  # fmt: skip


def test_observers_on_the_edge_between_cells_stand_in_the_same_cell(tmp_path: Path) -> None:
    """In degrees, where a part of the ground begins at a number that was rounded."""
    ground = in_degrees(relief(7, ROWS, 900), 65.0)
    write_surface(tmp_path / "ground.tif", ground, "ground")
    at = [(round(-2.99 + 0.0061 * k, 4), round(64.995 - 0.0047 * k, 4)) for k in range(12)]
    settings = {"at": at, "observer_height": 3.0, "reach": 300.0}
    study = Study(
        steps=(
            Step(id="ground", kind="open_grid", settings={"source": str(tmp_path / "ground.tif")}),
            Step(id="seen", kind="viewshed", inputs={"dem": "ground"}, settings=settings),
        )
    )
    for written, expected in both_ways(study, ["seen"], tmp_path / "work", 512 * 512):
        assert_said_alike(written, expected, 1e-9)
        assert_cells_alike(written, expected, 0.0)


def on_ground(ground: Surface) -> Surface:
    """With heights at all places of observers."""
    values = np.where(np.isnan(ground.values), np.nanmean(ground.values), ground.values)
    keep = np.zeros(values.shape, bool)
    rows, cols = values.shape
    for u, v in SHARES:
        r, c = int((1 - v) * rows), int(u * cols)
        keep[max(r - 2, 0) : r + 3, max(c - 2, 0) : c + 3] = True
    return replace(ground, values=np.where(keep, values, ground.values).astype(ground.values.dtype))


def overlooked(folder: Path, ground: Surface) -> Study:
    """Observers who look over all of a ground that trees and walls stand on, and others with a reach of their own."""
    study, reach = study_on(folder, ground)
    rng = np.random.default_rng(3)
    trees = np.where(rng.random(ground.values.shape) > 0.98, 6.0, 0.0)
    write_surface(folder / "trees.tif", replace(ground, values=ground.values + trees), "trees")
    people = np.where(rng.random(ground.values.shape) > 0.9, np.nan, rng.integers(0, 5, ground.values.shape))
    write_surface(
        folder / "people.tif", replace(ground, values=people.astype(np.float32), unit=NONE), "people"
    )
    xmin, ymin, xmax, ymax = ground.frame.box
    middle = 0.5 * (ymin + ymax)
    wall = shapely.LineString([(xmin, middle), (xmax, middle)])
    write_shapes(
        folder / "walls.gpkg",
        Shapes(np.array([wall]), {"height": np.array([9.0])}, ground.frame.crs),
        "walls",
    )
    at = study.step("plain").settings["at"][:3]
    far = {"at": at, "observer_height": 30.0, "target_height": 1.0}
    some = {
        **far,
        "own": f"2: reach={reach}, bearing_from=300, bearing_to=80, down=-20; 3: near={reach / 20}",
    }
    standing = {"dem": "ground", "obstacles": "trees", "barriers": "walls"}
    grids = [
        Step(id=n, kind="open_grid", settings={"source": str(folder / f"{n}.tif")})
        for n in ("trees", "people")
    ]
    return Study(
        steps=(
            *study.steps, *grids,
            Step(id="walls", kind="open_shapes", settings={"source": str(folder / "walls.gpkg")}),
            Step(id="all", kind="viewshed", inputs={**standing, "weights": "people"}, settings=some),
            Step(id="bare", kind="viewshed", inputs={"dem": "ground"}, settings={**far, "curvature": False}),
            Step(id="near", kind="viewshed", inputs={**standing, "weights": "people"}, settings={**far, "reach": reach}),
            Step(id="mast", kind="mast_height", inputs=standing,
                 settings={"at": at, "observer_height": 30.0, "own": f"1: reach={reach / 2}"}),
            Step(id="angle", kind="horizon_angle", inputs={"dem": "ground"}, settings=some),
        )
    )  # fmt: skip


@pytest.mark.parametrize("on", first(OVERLOOKED, "oblong cells, holes, feet"))
def test_what_is_looked_over_as_a_whole_is_as_in_one_piece(on: str, tmp_path: Path) -> None:
    study, work = overlooked(tmp_path, on_ground(OVERLOOKED[on]())), tmp_path / "work"
    for written, expected in both_ways(study, ["all", "bare", "near", "mast", "angle"], work, CELLS):
        assert written.file is not None, written.ref
        assert_said_alike(written, expected, 1e-9)
        assert_cells_alike(written, expected, 0.0)
    assert not list(work.rglob("*.map"))


@pytest.mark.parametrize("ref", ["all", "mast"])
@pytest.mark.parametrize("after", [2, 9])
def test_lanes_that_are_there_are_not_looked_over_again(ref: str, after: int, tmp_path: Path) -> None:
    study = overlooked(tmp_path, on_ground(OVERLOOKED["oblong cells, holes, feet"]()))
    grids, doing = (
        left_on_disk(study, study.steps, True),
        "Looking around" if ref == "all" else "Measuring rays",
    )

    def looked(ending: Ending, work: Path) -> Written:
        work.mkdir(exist_ok=True)
        (written,) = LargeRun(study, Engine(), ending, work, grids, CELLS).results([ref], silent())
        return written

    whole, then = Ending(doing, 1000), Ending(doing, 1000)
    looked(whole, tmp_path / "whole")
    with pytest.raises(InterruptedError):
        looked(Ending(doing, after), tmp_path / "ended")
    written = looked(then, tmp_path / "ended")
    assert whole.done >= 12 and then.done <= whole.done - after - 1
    assert_cells_alike(written, Engine().run_or_raise(study, ref), 0.0)


def test_a_disk_without_room_and_an_empty_ground_are_told(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    ground = on_ground(OVERLOOKED["oblong cells, holes, feet"]())
    study = overlooked(tmp_path, ground)
    monkeypatch.setattr(maps, "MOST_OF_DISK", 1e-12)
    with pytest.raises(MossError, match="has no room for"):
        list(in_tiles(study, ["bare"], tmp_path / "work", CELLS))
    monkeypatch.undo()
    nothing = replace(ground, values=np.full_like(ground.values, np.nan))
    write_surface(tmp_path / "ground.tif", nothing, "ground")
    for ref in ("bare", "angle"):
        with pytest.raises(MossError, match="holds no values"):
            list(in_tiles(study, [ref], tmp_path / f"work {ref}", CELLS))


def test_what_was_seen_over_a_damaged_part_is_looked_for_again(tmp_path: Path) -> None:
    study = overlooked(tmp_path, on_ground(OVERLOOKED["degrees at 65 north, mirrored"]()))
    source, work = tmp_path / "ground.tif", tmp_path / "work"
    with rasterio.open(source) as file:
        at = int(file.get_tag_item("BLOCK_OFFSET_0_2", "TIFF", bidx=1))
    whole = source.read_bytes()
    grids = left_on_disk(study, study.steps, True)
    work.mkdir()
    for damaged in (True, False):
        source.write_bytes(whole[:at] + b"\xff" * 300 + whole[at + 300 :] if damaged else whole)
        run = LargeRun(study, Engine(), Alone(), work, grids, CELLS)
        for written in run.results(["bare", "mast"], silent()):
            if not damaged:
                assert_cells_alike(written, Engine().run_or_raise(study, written.ref), 0.0)
        assert bool(run.wrong) is damaged


@pytest.mark.parametrize("on", GROUNDS)
def test_views_that_are_counted_are_those_of_one_piece(on: str, tmp_path: Path) -> None:
    study, _ = study_on(tmp_path, on_ground(GROUNDS[on]()))
    for written, expected in both_ways(study, ["plain", "shapes"], tmp_path / "work", 512 * 512):
        assert written.file is not None
        assert_said_alike(written, expected, 1e-9)
        assert_cells_alike(written, expected, 0.0)


def test_views_that_are_there_are_not_looked_for_again(tmp_path: Path) -> None:
    study, _ = study_on(tmp_path, on_ground(GROUNDS["holes"]()))
    grids, work = left_on_disk(study, study.steps, True), tmp_path / "work"
    work.mkdir()
    first, then = Ending("Looking around", 2), Ending("Looking around", 1000)
    with pytest.raises(InterruptedError):
        list(LargeRun(study, Engine(), first, work, grids, 512 * 512).results(["plain"], silent()))
    (written,) = LargeRun(study, Engine(), then, work, grids, 512 * 512).results(["plain"], silent())
    assert then.done <= len(SHARES) - 2
    assert_cells_alike(written, Engine().run_or_raise(study, "plain"), 0.0)


def test_each_looks_over_its_own_part_where_it_can(tmp_path: Path) -> None:
    ground = on_ground(GROUNDS["holes"]())
    study, reach = study_on(tmp_path, ground)
    held = left_on_disk(study, study.steps, True)["ground"]
    kind = step_kind("viewshed")
    at = [list(ground.frame.centres(np.array([ROWS // 2 * COLS + COLS // 2]))[0])]

    def job(inputs: dict[str, object] | None = None, **given: object) -> ViewJob | None:
        return viewshed({"dem": held, **(inputs or {})}, kind.checked({"at": at, **given}))

    def within_reach(made: ViewJob | None) -> bool:
        assert made is not None
        return made.within_reach

    assert work_of("viewshed") is viewshed
    assert within_reach(job(reach=reach)) and within_reach(job({"obstacles": held}, reach=reach))
    assert not within_reach(job()) and not within_reach(job(reach=1e6))
    assert job({"obstacles": ground}) is None and job({"weights": ground}, reach=reach) is None
    afar = replace(
        held,
        source=replace(held.source, at=StoredTiles(Address("memory://county"), *held.frame.shape)),
    )
    assert viewshed({"dem": afar}, kind.checked({"at": at})) is None, "nothing can be mapped at an address"
    aside = replace(held, source=replace(held.source, box=(412000.0, 5865000.0, 413000.0, 5866000.0)))
    for name, said in {
        "obstacles": "The obstacles and the ground",
        "weights": "The weights and the ground",
    }.items():
        with pytest.raises(MossError, match=said):
            job({name: aside})
    with pytest.raises(MossError, match="stands outside the ground"):
        job(at=[[0.0, 0.0]], reach=reach)
