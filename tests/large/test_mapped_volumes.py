"""What changed between surveys, and cut and fill, on grounds that are mapped from files: the same as in memory, and mapped, too."""

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
import shapely

from moss_step.formats.raster_write import write_surface
from moss_step.formats.vector import write_shapes
from moss_step.kinds.registry import cells_of, is_mapped, kind_of
from moss_step.model import memory
from moss_step.model.errors import MossError
from moss_step.model.outcome import Outcome
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.units import FOOT, METRE
from moss_step.study.engine import Engine
from moss_step.study.graph import Step, Study
from tests.grounds import large_grounds
from tests.large.held import as_if_large, assert_cells_alike, assert_said_alike, in_tiles

ROWS, COLS = 180, 260
GROUNDS = large_grounds(ROWS, COLS)
CHANGES = ("plain", "counted", "inside", "mean", "tilt", "shift", "proposed", "by_place", "off_cells")
VOLUMES = ("level", "surface", "edge", "plane", "lowest")
TIMED = ("reckoned", "time")


def surveys(ground: Surface, folder: Path) -> None:
    """A ground before and after it slid in one place and was shaken everywhere, and errors by place."""
    dice = np.random.default_rng(8)
    high, low = np.nanmax(ground.values), np.nanmin(ground.values)
    slid = np.zeros(ground.values.shape)
    slid[60:110, 80:150] = (high - low) * 0.05
    shaken = dice.normal(0.0, (high - low) * 1e-3, slid.shape)
    after = (ground.values - slid + shaken).astype(ground.values.dtype)
    write_surface(folder / "before.tif", ground, "before")
    write_surface(folder / "after.tif", replace(ground, values=after), "after")
    errors = np.full(slid.shape, (high - low) * 2e-3)
    errors[:, 130:] *= 3.0
    errors[20:40] = np.nan
    write_surface(folder / "errors.tif", replace(ground, values=errors.astype(np.float32)), "errors")
    off = replace(
        ground.frame, x0=ground.frame.x0 + ground.frame.dx * 0.3, y0=ground.frame.y0 - ground.frame.dy * 0.4
    )
    feet = ground.unit == FOOT
    other = ground.values * (FOOT.factor if feet else 1.0 / FOOT.factor)
    moved = Surface(other.astype(ground.values.dtype), off, METRE if feet else FOOT)
    write_surface(folder / "moved.tif", moved, "moved")


def areas(ground: Surface, *windows: tuple[float, float, float, float]) -> Shapes:
    """Boxes by their first and last row and column."""
    f = ground.frame
    boxes = [
        shapely.box(f.x_of(left), f.y_of(bottom), f.x_of(right), f.y_of(top))
        for top, bottom, left, right in windows
    ]
    return Shapes(np.array(boxes, object), {}, f.crs)


def study_on(folder: Path, ground: Surface) -> Study:
    """Every way in which both steps are asked, on files of a folder."""
    surveys(ground, folder)
    write_shapes(
        folder / "around.gpkg",
        areas(ground, (40.3, 130.7, 60.2, 170.9), (150.0, 171.0, 20.0, 90.5)),
        "around",
    )
    halves = areas(ground, (7.4, ROWS - 7.4, 7.3, 130.2), (7.5, ROWS - 7.5, 130.9, COLS - 7.3))
    write_shapes(folder / "halves.gpkg", halves, "halves")
    write_shapes(
        folder / "stable.gpkg", areas(ground, (2.0, 30.0, 5.0, 250.0), (140.0, 175.0, 150.0, 250.0)), "stable"
    )
    files = {n: f"{folder}/{n}.tif" for n in ("before", "after", "errors", "moved")}
    opened = [Step(id=n, kind="open_grid", settings={"source": f}) for n, f in files.items()]
    opened += [
        Step(id=n, kind="open_shapes", settings={"source": f"{folder}/{n}.gpkg"})
        for n in ("around", "stable", "halves")
    ]
    both = {"before": "before", "after": "after"}
    on = both | {"stable": "stable"}
    low, high = ground.range
    error = {"error_before": float(high - low) * 1e-3 * ground.metres_per_height, "error_after": 0.001}
    asked = {
        "plain": (both, error),
        "counted": (both, error | {"too_small": "counted", "reach": 50.0}),
        "inside": (both | {"area": "around"}, error),
        "mean": (on, error | {"offset": "mean"}),
        "tilt": (on, error | {"offset": "tilt"}),
        "shift": (on, error | {"offset": "shift"}),
        "proposed": (both | {"area": "around"}, error | {"offset": "mean", "stayed": "proposed"}),
        "by_place": (both | {"spread_before": "errors"}, {"error_after": 0.002}),
        "off_cells": ({"before": "moved", "after": "after"}, error),
    }
    steps = [Step(id=n, kind="survey_change", inputs=i, settings=s) for n, (i, s) in asked.items()]
    for against in VOLUMES:
        settings = {"against": against} | ({"level": float(low + high) / 2} if against == "level" else {})
        inputs = {"surface": "after", "area": "halves"} | ({"base": "before"} if against == "surface" else {})
        steps.append(Step(id=against, kind="cut_fill", inputs=inputs, settings=settings))
    fed = {"surface": "after", "area": "halves"}
    steps.append(Step(id="balanced", kind="balance", inputs=fed, settings={"shrink": 0.9}))
    return Study(steps=(*opened, *steps))


@pytest.fixture(scope="module", params=GROUNDS)
def study(request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory) -> Study:
    return study_on(tmp_path_factory.mktemp("volumes"), GROUNDS[request.param]())


@pytest.fixture(scope="module")
def whole(study: Study) -> dict[str, Outcome]:
    engine = Engine()
    refs = [
        *(r for c in CHANGES for r in (c, f"{c}.brought", f"{c}.surely", f"{c}.histogram", f"{c}.stayed"))
    ]
    refs += [r for v in VOLUMES for r in (v, f"{v}.base", f"{v}.outlines", f"{v}.corners")]
    refs += ["balanced", "balanced.curve", "balanced.outlines"]
    return {r: engine.run_or_raise(study, r) for r in refs}


@pytest.fixture
def tight(whole: dict[str, Outcome], monkeypatch: pytest.MonkeyPatch) -> None:
    """Once all is known in memory, grids count as too large for it, and few rows are worked on at a time."""
    as_if_large(monkeypatch)


def assert_alike(found: Outcome, expected: Outcome, ref: str) -> None:
    """The same findings, remarks and values, to the bit; what is a grid is mapped."""
    assert [(f.name, f.of, f.value, f.unit) for f in found.findings] == [
        (f.name, f.of, f.value, f.unit) for f in expected.findings
    ], ref
    assert found.warnings == expected.warnings
    if kind_of(expected.value).array is not None:
        np.testing.assert_array_equal(cells_of(found.value), cells_of(expected.value), ref)
        assert is_mapped(found.value) and not is_mapped(expected.value), ref
        return
    columns = [v.value.columns for v in (found, expected)]
    assert columns[0].keys() == columns[1].keys()
    for name in set(columns[0]) - set(TIMED):
        np.testing.assert_array_equal(columns[0][name], columns[1][name], f"{ref} {name}")


def test_mapped_surveys_give_what_those_in_memory_give(
    study: Study, whole: dict[str, Outcome], tight: None
) -> None:
    engine = Engine()
    for ref, expected in whole.items():
        assert_alike(engine.run_or_raise(study, ref), expected, ref)
    wanted = (("plain", "lowered"), ("shift", "lowered"), ("level", "cut"))
    figures = [next(f.value for f in whole[ref].findings if f.name == name) for ref, name in wanted]
    assert min(figures) > 0.0, "something moved"


def test_a_run_whose_surveys_stay_on_the_disk_gives_the_same(
    study: Study, whole: dict[str, Outcome], tight: None, tmp_path: Path
) -> None:
    wanted = ["plain", "plain.surely", "shift", "by_place", *VOLUMES]
    for written in in_tiles(study, wanted, tmp_path / "work", 256 * 256):
        assert_said_alike(written, whole[written.ref], 0.0)
        assert_cells_alike(written, whole[written.ref], 0.0)


def test_what_looks_at_all_changes_at_once_is_refused_where_they_do_not_fit(
    study: Study, tight: None, monkeypatch: pytest.MonkeyPatch
) -> None:
    engine = Engine()
    engine.run_or_raise(study, "plain")
    real = memory.free_memory
    monkeypatch.setattr(memory, "free_memory", lambda: min(real(), 70 * ROWS * COLS - 1))
    for ref in ("plain.patches", "plain.lines"):
        with pytest.raises(MossError, match="Crop both surveys"):
            engine.run_or_raise(study, ref)
    assert engine.run_or_raise(study, "plain.histogram").value.columns["volume_m3"].sum() > 0.0
