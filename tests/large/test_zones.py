"""Zones counted tile by tile against zones in one piece."""

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
import shapely

from moss_step.formats.raster_write import write_surface
from moss_step.formats.vector import write_shapes
from moss_step.large.jobs import left_on_disk
from moss_step.large.running import LargeRun
from moss_step.large.tiling import squares
from moss_step.model.progress import silent
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.typed import as_kind
from moss_step.model.units import FOOT
from moss_step.study.engine import Engine
from moss_step.study.graph import Step, Study
from tests.grounds import holed, in_degrees, metric, relief
from tests.large.held import Ending, assert_said_alike, both_ways

ROWS, COLS = 700, 1100
GROUNDS = {
    "holes": lambda: metric(holed(relief(5, ROWS, COLS))),
    "feet, cells four times as wide as high, mirrored": lambda: replace(
        metric(holed(relief(6, ROWS, COLS))[:, ::-1], 20.0, 5.0), unit=FOOT
    ),
    "degrees at 65 north": lambda: in_degrees(relief(7, ROWS, COLS), 65.0),
    "small relief on a large base": lambda: Surface(
        4000.0 + relief(9, ROWS, COLS) * 1e-4, metric(relief(9, ROWS, COLS)).frame
    ),
}


def zones_on(ground: Surface) -> Shapes:
    """Circles that overlap, one beyond the ground, one so small that it holds no cell, and halves that share a side."""
    xmin, ymin, xmax, ymax = ground.frame.box
    wide, high = xmax - xmin, ymax - ymin
    places = [(0.3, 0.4, 0.3), (0.5, 0.5, 0.35), (0.9, 0.2, 0.2), (3.0, 0.5, 0.1), (0.4501, 0.4501, 1e-5)]
    round_ = [
        shapely.Point(xmin + u * wide, ymin + v * high).buffer(s * min(wide, high)) for u, v, s in places
    ]
    half = [shapely.box(xmin, ymin, xmin + wide / 2, ymax), shapely.box(xmin + wide / 2, ymin, xmax, ymax)]
    names = np.array([f"zone {k}" for k in range(7)], object)
    return Shapes(np.array(round_ + half), {"name": names}, ground.frame.crs)


@pytest.mark.parametrize("on", GROUNDS)
def test_tiles_count_what_one_piece_counts(on: str, tmp_path: Path) -> None:
    ground: Surface = GROUNDS[on]()
    write_surface(tmp_path / "ground.tif", ground, on)
    write_shapes(tmp_path / "zones.gpkg", zones_on(ground), "zones")
    bounds = {"rules": "equal_interval"}
    study = Study(
        steps=(
            Step(id="ground", kind="open_grid", settings={"source": str(tmp_path / "ground.tif")}),
            Step(id="areas", kind="open_shapes", settings={"source": str(tmp_path / "zones.gpkg")}),
            Step(id="slope", kind="slope", inputs={"dem": "ground"}, settings={"unit": "percent"}),
            Step(id="classes", kind="classify", inputs={"surface": "slope"}, settings={"rules": "fao_slope"}),
            Step(id="stats", kind="zone_statistics", inputs={"zones": "areas", "surface": "ground"},
                 settings={"statistics": "count,sum,mean,min,max,range,std"}),
            Step(id="table", kind="zone_classes", inputs={"zones": "areas", "classes": "classes"}),
            Step(id="middle", kind="zone_statistics", inputs={"zones": "areas", "surface": "slope"}, settings={"statistics": "median"}),
            Step(id="equal", kind="classify", inputs={"surface": "slope"}, settings=bounds),
        )
    )  # fmt: skip
    targets = ["stats", "table", "middle", "equal"]
    for written, expected in both_ways(study, targets, tmp_path / "work", 512 * 512):
        assert_said_alike(written, expected, 1e-9)
        assert written.outcome is not None
        ours, theirs = written.outcome.of(Shapes), expected.of(Shapes)
        if theirs is None or ours is None:
            continue
        assert list(ours.columns) == list(theirs.columns)
        assert ours.symbols == theirs.symbols
        for name, values in theirs.columns.items():
            if values.dtype.kind in "fiu":
                np.testing.assert_allclose(
                    np.asarray(ours.columns[name], float), values, rtol=1e-9, atol=1e-9, err_msg=name
                )


@pytest.mark.parametrize("on", GROUNDS)
def test_what_zones_alone_take_is_written_nowhere_and_a_killed_count_goes_on(on: str, tmp_path: Path) -> None:
    ground: Surface = GROUNDS[on]()
    write_surface(tmp_path / "ground.tif", ground, on)
    write_shapes(tmp_path / "zones.gpkg", zones_on(ground), "zones")
    study = Study(
        steps=(
            Step(id="ground", kind="open_grid", settings={"source": str(tmp_path / "ground.tif")}),
            Step(id="slope", kind="slope", inputs={"dem": "ground"}),
            Step(id="areas", kind="open_shapes", settings={"source": str(tmp_path / "zones.gpkg")}),
            Step(id="stats", kind="zone_statistics", inputs={"zones": "areas", "surface": "slope"},
                 settings={"statistics": "count,sum,mean,min,max,range,std"}),
        )
    )  # fmt: skip
    work, grids = tmp_path / "work", left_on_disk(study, study.steps, True)
    work.mkdir()
    crews = [Ending("Counting in zones", n) for n in (3, 1000)]
    with pytest.raises(InterruptedError):
        list(LargeRun(study, Engine(), crews[0], work, grids, 512 * 512).results(["stats"], silent()))
    (written,) = LargeRun(study, Engine(), crews[1], work, grids, 512 * 512).results(["stats"], silent())
    tiles = len(squares(ground.frame.shape, 512 * 512))
    assert crews[1].done <= tiles - 3
    assert not list(work.rglob("slope*.tif"))
    expected = Engine().run_or_raise(study, "stats")
    assert_said_alike(written, expected, 1e-9)
    assert written.outcome is not None
    ours, theirs = as_kind(written.outcome.value, Shapes), as_kind(expected.value, Shapes)
    for name, values in theirs.columns.items():
        if values.dtype.kind in "fiu":
            own = np.asarray(ours.columns[name], float)
            np.testing.assert_allclose(own, values, rtol=1e-9, atol=1e-9, err_msg=name)


def test_tiles_that_no_zone_meets_are_counted_as_empty(tmp_path: Path) -> None:
    ground = metric(holed(relief(5, ROWS, COLS)))
    xmin, _, _, ymax = ground.frame.box
    corner = shapely.box(xmin, ymax - 40 * ground.frame.dy, xmin + 30 * ground.frame.dx, ymax)
    write_surface(tmp_path / "ground.tif", ground, "ground")
    write_shapes(tmp_path / "zones.gpkg", Shapes(np.array([corner]), {}, ground.frame.crs), "zones")
    study = Study(
        steps=(
            Step(id="ground", kind="open_grid", settings={"source": str(tmp_path / "ground.tif")}),
            Step(id="areas", kind="open_shapes", settings={"source": str(tmp_path / "zones.gpkg")}),
            Step(id="stats", kind="zone_statistics", inputs={"zones": "areas", "surface": "ground"}),
        )
    )
    ((written, expected),) = both_ways(study, ["stats"], tmp_path / "work", 512 * 512)
    assert_said_alike(written, expected, 1e-9)
