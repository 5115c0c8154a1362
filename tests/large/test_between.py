"""Surfaces between places in the cells of a grid that stays on the disk, against those of one piece."""

from pathlib import Path

import numpy as np
import pytest
import shapely

from moss_step.formats.raster_write import write_surface
from moss_step.formats.vector import read_shapes, write_shapes
from moss_step.kinds.registry import cells_of
from moss_step.large import between
from moss_step.large.jobs import left_on_disk
from moss_step.large.running import LargeRun
from moss_step.large.works import work_of
from moss_step.model.errors import MossError
from moss_step.model.frame import Frame
from moss_step.model.progress import silent
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.steps.catalogue import step_kind
from moss_step.study.engine import Engine
from moss_step.study.graph import Step, Study
from tests.grounds import first
from tests.large.held import Ending, assert_cells_alike, assert_said_alike, both_ways
from tests.large.test_mapped_surfaces import PLACES, study_on

REFS = ("natural_neighbour", "inverse_distance", "nearest", "near", "kriging", "spline", "tin", "edge")
DOING = "Finding values between the samples"


def in_finer_cells(folder: Path, on: str, k: int = 0) -> Study:
    """A study whose grid has enough rows for several strips, with no-data somewhere: it counts for nothing."""
    study = study_on(folder, PLACES[on])
    source = folder / "cells.tif"
    held = Engine().run_or_raise(study, "cells").value
    assert isinstance(held, Surface)
    f = held.frame
    k = k or -(-560 // held.frame.rows)
    frame = Frame(f.rows * k, f.cols * k, f.x0, f.y0, f.dx / k, f.dy / k, f.crs)
    values = np.zeros(frame.shape, np.float32)
    values[40:80] = np.nan
    write_surface(source, Surface(values, frame, held.unit), "cells")
    across = shapely.LineString(
        shapely.get_coordinates(read_shapes(folder / "spots.gpkg").geometry[[3, 90, 140]])
    )
    write_shapes(
        folder / "walls.gpkg", Shapes(np.array([across]), {"z": np.array([30.0])}, f.crs, {"z": "m"}), "walls"
    )
    fed = {"points": "spots", "area": "shore", "like": "cells", "breaklines": "walls"}
    edge = {"column": "z", "method": "tin", "edge_value": 25.0}
    return study.adding(
        Step(id="walls", kind="open_shapes", settings={"source": str(folder / "walls.gpkg")})
    ).adding(Step(id="edge", kind="interpolate", inputs=fed, settings=edge))


@pytest.mark.parametrize("on", first(PLACES, "degrees at 65 north, to the west"))
def test_strips_give_what_one_piece_gives(on: str, tmp_path: Path) -> None:
    for written, expected in both_ways(in_finer_cells(tmp_path, on), REFS, tmp_path / "work", 1):
        assert written.file is not None, "it was worked out in strips"
        assert_said_alike(written, expected, 1e-6)
        # Sums of many products come in another order.
        assert_cells_alike(written, expected, 2e-6 if written.ref in ("kriging", "spline") else 0.0)


def test_what_stands_beside_a_surface_is_given_with_it(tmp_path: Path) -> None:
    study = in_finer_cells(tmp_path, "cells of 8 by 2 m in feet", 2)
    asked = ["kriging", "kriging.error", "kriging.variogram", "kriging.residuals"]
    for written, expected in both_ways(study, asked, tmp_path / "work", 1):
        assert_said_alike(written, expected, 1e-6)
        if written.ref != "kriging":
            assert written.outcome is not None
            assert written.outcome.figure == expected.figure
        if written.ref == "kriging.error":
            ours, theirs = cells_of(written.outcome.value), cells_of(expected.value)
            assert np.isfinite(theirs).any()
            np.testing.assert_allclose(ours, theirs, rtol=2e-6, atol=2e-6)
    grids, work = left_on_disk(study, study.steps, True), tmp_path / "other"
    work.mkdir()
    run = LargeRun(study, Engine(), Ending(DOING, 1000), work, grids, 1)
    found = [w.ref for w in run.results(["nearest", "nearest.variogram"], silent())]
    assert found == ["nearest"] and "Only kriging" in str(run.refused["nearest.variogram"])


def test_strips_that_are_there_are_not_found_again(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    study = in_finer_cells(tmp_path, "square cells", 12)
    grids, work = left_on_disk(study, study.steps, True), tmp_path / "work"
    work.mkdir()
    with pytest.raises(InterruptedError):
        list(LargeRun(study, Engine(), Ending(DOING, 1), work, grids, 1).results(["nearest"], silent()))
    found, plain = [], between.Between.wanted

    def wanted(self: between.Between, rows: slice) -> np.ndarray:
        found.append(rows.start)
        return plain(self, rows)

    monkeypatch.setattr(between.Between, "wanted", wanted)
    then = Ending(DOING, 1000)
    (written,) = LargeRun(study, Engine(), then, work, grids, 1).results(["nearest"], silent())
    assert then.done == 5 and len(found) <= 3, "of five strips at least two were there"
    monkeypatch.undo()
    assert_cells_alike(written, Engine().run_or_raise(study, "nearest"), 0.0)


def test_other_places_or_settings_are_other_strips(tmp_path: Path) -> None:
    study = in_finer_cells(tmp_path, "square cells")
    held = left_on_disk(study, study.steps, True)["cells"]
    spots, kind = read_shapes(tmp_path / "spots.gpkg"), step_kind("interpolate")
    moved = Shapes(spots.geometry, {"z": spots.columns["z"] + 1.0}, spots.crs, spots.symbols)

    def name(points: Shapes, **given: object) -> str:
        settings = kind.checked({"column": "z", "method": "nearest", **given})
        job = between.interpolate({"points": points, "like": held}, settings)
        assert job is not None
        return job.name

    assert name(spots) == name(spots)
    assert len({name(spots), name(moved), name(spots, reach=9.0), name(spots, method="spline")}) == 4


def test_what_strips_cannot_give_goes_another_way(tmp_path: Path) -> None:
    study = in_finer_cells(tmp_path, "square cells")
    held = left_on_disk(study, study.steps, True)["cells"]
    spots, kind = read_shapes(tmp_path / "spots.gpkg"), step_kind("interpolate")
    high = Shapes(spots.geometry, {"z": 9e6 + spots.columns["z"]}, spots.crs, spots.symbols)

    def job(points: Shapes, **given: object) -> object:
        fed = {"points": points, "like": held, **{k: v for k, v in given.items() if k == "drift"}}
        settings = {k: v for k, v in given.items() if k != "drift"}
        return between.interpolate(fed, kind.checked({"column": "z", **settings}))

    assert work_of("interpolate") is between.interpolate
    assert isinstance(job(spots), between.BetweenJob)
    assert job(spots, drift=held) is None
    assert job(high) is None, "single precision may blur it"


def test_where_nothing_lies_between_the_places_it_says_so(tmp_path: Path) -> None:
    study = in_finer_cells(tmp_path, "square cells")
    away = Shapes(
        read_shapes(tmp_path / "spots.gpkg").geometry[:3], {"z": np.array([1.0, 2.0, 4.0])}, "EPSG:32628"
    )
    write_shapes(tmp_path / "spots.gpkg", away, "spots")
    grids, work = left_on_disk(study, study.steps, True), tmp_path / "work"
    work.mkdir()
    step = Step(id="none", kind="interpolate", inputs={"points": "spots", "like": "cells"},
                settings={"column": "z", "method": "nearest", "reach": 1e-6})  # fmt: skip
    asked = Study(steps=(*study.steps, step))
    with pytest.raises(MossError, match="No cell lies between the places"):
        list(LargeRun(asked, Engine(), Ending(DOING, 1000), work, grids, 1).results(["none"], silent()))
