"""Viewsheds by observer in tiles against those of one piece."""

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
import shapely

from moss_step.formats.raster_write import write_surface
from moss_step.formats.vector import write_shapes
from moss_step.large.jobs import left_on_disk
from moss_step.large.running import LargeRun
from moss_step.large.views import ViewJob, viewshed
from moss_step.large.works import work_of
from moss_step.model.errors import MossError
from moss_step.model.progress import silent
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.units import FOOT
from moss_step.steps.catalogue import step_kind
from moss_step.study.engine import Engine
from moss_step.study.graph import Step, Study
from tests.grounds import holed, in_degrees, metric, relief
from tests.large.held import Ending, assert_cells_alike, assert_said_alike, both_ways

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
SHARES = (0.2, 0.3), (0.5, 0.52), (0.52, 0.5), (0.99, 0.02), (0.5, 0.52)


def study_on(folder: Path, ground: Surface) -> tuple[Study, float]:
    """Observers whose views overlap, one at the rim, two at one place; from settings, and from points that have values of
    their own.
    """
    xmin, ymin, xmax, ymax = ground.frame.box
    wide, high = ground.frame.cell_metres
    reach = 0.2 * min(wide * COLS, high * ROWS)
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


def on_ground(ground: Surface) -> Surface:
    """With heights at all places of observers."""
    values = np.where(np.isnan(ground.values), np.nanmean(ground.values), ground.values)
    keep = np.zeros(values.shape, bool)
    for u, v in SHARES:
        r, c = int((1 - v) * ROWS), int(u * COLS)
        keep[max(r - 2, 0) : r + 3, max(c - 2, 0) : c + 3] = True
    return replace(ground, values=np.where(keep, values, ground.values).astype(ground.values.dtype))


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


def test_what_is_looked_at_as_a_whole_goes_another_way(tmp_path: Path) -> None:
    ground = on_ground(GROUNDS["holes"]())
    study, reach = study_on(tmp_path, ground)
    held = left_on_disk(study, study.steps, True)["ground"]
    kind = step_kind("viewshed")
    at = [list(ground.frame.centres(np.array([ROWS // 2 * COLS + COLS // 2]))[0])]

    def job(**given: object) -> ViewJob | None:
        return viewshed({"dem": held}, kind.checked({"at": at, **given}))

    assert work_of("viewshed") is viewshed
    assert isinstance(job(reach=reach), ViewJob)
    assert job() is None
    assert job(reach=1e6) is None
    assert viewshed({"dem": held, "obstacles": held}, kind.checked({"at": at, "reach": reach})) is None
    with pytest.raises(MossError, match="stands outside the ground"):
        job(at=[[0.0, 0.0]], reach=reach)
