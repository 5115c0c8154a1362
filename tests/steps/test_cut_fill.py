"""Cut and fill as a step: bodies of mathematics as grid, TIN and cloud, bases, units, records, bad input."""

import re

import numpy as np
import pytest
import shapely

from moss_step.model.cloud import Cloud
from moss_step.model.errors import MossError
from moss_step.model.frame import Frame
from moss_step.model.progress import silent
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.units import CENTIMETRE, FOOT, METRE
from moss_step.science.interpolate.places import Measured
from moss_step.science.interpolate.plane import Plane
from moss_step.science.interpolate.tin import triangulate
from moss_step.steps.catalogue import catalogue
from moss_step.study.declared import run_declared

UTM = "EPSG:32628"


def run(settings, **inputs):
    return run_declared(catalogue()["cut_fill"], settings, inputs, silent())


def with_holes(change):
    """The cone with some of its cells changed."""
    made = grid(cone)
    values = made.values.copy()
    change(values)
    return Surface(values, made.frame, made.unit)


def found(outcome):
    return {f.name: float(f.value) for f in outcome.findings}


def frame_of(cell_x, cell_y, side=100.0):
    return Frame(round(side / cell_y), round(side / cell_x), 0.0, side, cell_x, cell_y, UTM)


def middles(frame):
    x = frame.x0 + (np.arange(frame.cols) + 0.5) * frame.dx
    return x, (frame.y0 - (np.arange(frame.rows) + 0.5) * frame.dy)[:, None]


def grid(height, cell_x=0.5, cell_y=0.5, unit=METRE):
    frame = frame_of(cell_x, cell_y)
    return Surface((height(*middles(frame)) / unit.factor).astype(np.float64), frame, unit)


def tilted(x, y):
    return 200.0 + 0.1 * x - 0.05 * y


def cone(x, y):
    """20 m in radius and 10 m high, on a tilted plane."""
    return tilted(x, y) + np.maximum(10.0 - np.hypot(x - 50.0, y - 50.0) / 2.0, 0.0)


def pyramid(x, y):
    return tilted(x, y) + np.maximum(10.0 - np.maximum(np.abs(x - 50.0), np.abs(y - 50.0)) / 2.0, 0.0)


def cap(x, y):
    """The cap of a sphere of 25 m, 5 m high."""
    return tilted(x, y) + np.maximum(np.sqrt(np.maximum(625.0 - (x - 50) ** 2 - (y - 50) ** 2, 0)) - 20.0, 0)


def frustum(x, y):
    return tilted(x, y) + np.clip(10.0 - np.hypot(x - 50.0, y - 50.0) / 2.0, 0.0, 6.0)


VOLUMES = {
    cone: np.pi * 400.0 * 10.0 / 3.0,
    pyramid: 40.0**2 * 10.0 / 3.0,
    cap: np.pi * 25.0 * (75.0 - 5.0) / 3.0,
    frustum: np.pi * 6.0 / 3.0 * (20.0**2 + 8.0**2 + 20.0 * 8.0),
}
"""Volumes in cubic metres (mathematics)."""
AROUND = [tuple(p) for p in shapely.get_coordinates(shapely.Point(50.3, 49.8).buffer(30.0))[:-1]]


@pytest.mark.parametrize("cells", [(0.5, 0.5), (1.0, 0.25), (0.25, 1.0)])
@pytest.mark.parametrize("body", list(VOLUMES), ids=lambda b: b.__name__)
@pytest.mark.parametrize("against", ["edge", "plane"])
def test_bodies_on_a_tilted_plane_hold_what_they_hold(body, cells, against):
    told = found(run({"against": against, "outline": AROUND}, surface=grid(body, *cells)))
    assert told["cut"] == pytest.approx(VOLUMES[body], rel=3e-3)
    assert told["fill"] < 1e-3 * told["cut"]
    assert told["area"] == pytest.approx(shapely.Polygon(AROUND).area, rel=1e-3)


@pytest.mark.parametrize("body", list(VOLUMES), ids=lambda b: b.__name__)
@pytest.mark.parametrize("made", ["tin", "cloud"])
def test_a_tin_and_a_cloud_hold_the_same(made, body):
    x, y = (a.ravel() for a in np.meshgrid(np.arange(0.25, 100, 0.5), np.arange(0.25, 100, 0.5)))
    z = body(x, y)
    if made == "tin":
        value = triangulate(Measured(x, y, z), Plane(50.0, 50.0, 1.0, 1.0), UTM, METRE)
    else:
        value = Cloud(x, y, z, {"classification": np.full(x.size, 2, np.uint8)}, UTM, METRE)
    told = found(run({"against": "plane", "outline": AROUND, "cell": 0.5}, surface=value))
    assert told["cut"] == pytest.approx(VOLUMES[body], rel=5e-3)


@pytest.mark.parametrize(("level", "words"), [(500.0, "above all ground"), (10.0, "below all ground")])
def test_a_level_beyond_all_ground_is_said(level, words):
    told = run({"against": "level", "level": level, "outline": AROUND}, surface=grid(cone))
    assert any(words in text for text in told.warnings)


def test_a_wedge_against_a_level_and_the_lowest_height():
    """A slope of 1 in 10 over 40 m, 30 m wide: against a level in its middle half is cut, half fill."""
    corners = [(20, 30), (60, 30), (60, 60), (20, 60)]
    ground = grid(lambda x, y: 100.0 + x / 10.0 + 0.0 * y)
    told = found(run({"against": "level", "level": 104.0, "outline": corners}, surface=ground))
    half = 0.5 * 20.0 * 2.0 * 30.0
    assert told["cut"] == pytest.approx(half, rel=2e-3) and told["fill"] == pytest.approx(half, rel=2e-3)
    assert told["net"] == pytest.approx(0.0, abs=1e-6) and told["ratio"] == pytest.approx(1.0)
    assert told["perimeter"] == pytest.approx(140.0, rel=1e-3)
    assert told["surface_area"] == pytest.approx(1200.0 * np.hypot(1, 0.1), rel=2e-3)
    lowest = found(run({"against": "lowest", "outline": corners}, surface=ground))
    assert lowest["cut"] == pytest.approx(0.5 * 40.0 * 4.0 * 30.0, rel=2e-2) and lowest["fill"] == 0.0


@pytest.mark.parametrize("unit", [FOOT, CENTIMETRE])
def test_units_of_ground_and_base_are_brought_together(unit):
    plain = grid(tilted)
    told = run({"against": "surface", "outline": AROUND}, surface=grid(cone, unit=unit), base=plain)
    assert found(told)["cut"] == pytest.approx(VOLUMES[cone], rel=1e-3)
    assert any("were brought to" in text for text in told.warnings)
    back = found(run({"against": "surface", "outline": AROUND}, surface=plain, base=grid(cone, unit=unit)))
    assert back["fill"] == pytest.approx(VOLUMES[cone], rel=1e-3) and back["cut"] < 1e-3


def test_a_base_with_other_cells_is_read_between_them():
    told = run({"against": "surface", "outline": AROUND}, surface=grid(cone), base=grid(tilted, 2.0, 1.0))
    assert found(told)["cut"] == pytest.approx(VOLUMES[cone], rel=2e-3)
    assert any("other cells" in text for text in told.warnings)


def test_several_outlines_an_island_and_the_totals():
    ring = shapely.Polygon([(5, 5), (25, 5), (25, 25), (5, 25)], [[(10, 10), (20, 10), (20, 20), (10, 20)]])
    areas = Shapes(np.array([ring, shapely.box(60, 60, 80, 70)], object), {"name": np.array(["a", "b"])}, UTM)
    outcome = run(
        {"against": "level", "level": 0.0}, surface=grid(lambda x, y: 3.0 + 0 * x + 0 * y), area=areas
    )
    table = outcome.beside["outlines"]().value.columns
    scale = frame_of(0.5, 0.5).row_areas[0] / 0.25
    assert np.allclose(table["cut_m3"], np.array([900.0, 600.0]) * scale)
    assert found(outcome)["cut"] == pytest.approx(table["cut_m3"].sum())
    assert np.isnan(outcome.value.values[outcome.value.frame.cell_at(15.0, 15.0)])
    assert table["name"].tolist() == ["a", "b"]


def test_outlines_that_overlap_are_said_to_count_twice():
    areas = Shapes(np.array([shapely.box(10, 10, 30, 30), shapely.box(20, 20, 40, 40)], object), {}, UTM)
    level = {"against": "level", "level": 0.0}
    told = run(level, surface=grid(lambda x, y: 1.0 + 0 * x + 0 * y), area=areas)
    assert any("overlap" in text for text in told.warnings)
    apart = Shapes(np.array([shapely.box(10, 10, 30, 30), shapely.box(30, 10, 40, 40)], object), {}, UTM)
    told = run(level, surface=grid(lambda x, y: 1.0 + 0 * x + 0 * y), area=apart)
    assert not any("overlap" in text for text in told.warnings)


def test_swell_shrink_density_and_cost():
    asked = {"against": "level", "level": 204.0, "swell": 1.25, "shrink": 0.8, "density": 1.6, "cost": 7.0}
    told = found(run({**asked, "outline": AROUND}, surface=grid(cone)))
    assert told["loose_cut"] == pytest.approx(1.25 * told["cut"])
    assert told["needed_fill"] == pytest.approx(told["fill"] / 0.8)
    assert told["left_over"] == pytest.approx(told["cut"] - told["fill"] / 0.8)
    assert told["mass"] == pytest.approx(1.6 * told["cut"])
    assert told["cost"] == pytest.approx(7.0 * max(told["cut"], told["fill"]))


def test_the_record_says_what_was_asked_and_found_and_when():
    outcome = run({"against": "level", "level": 204.0, "outline": AROUND}, surface=grid(cone))
    rows = outcome.beside["record"]().value.columns
    said = dict(zip(rows["what"], rows["value"], strict=True))
    assert re.fullmatch(r"\d{4}-\d\d-\d\d \d\d:\d\d:\d\d [+-]\d{4}", said["reckoned"])
    assert float(said["cut"]) == pytest.approx(found(outcome)["cut"]) and said["against"] == "level"
    corners = outcome.beside["corners"]().value.columns
    assert len(corners["x"]) == len(AROUND) + 1
    assert np.allclose(corners["z"], cone(corners["x"], corners["y"]), atol=0.05)


def test_no_data_inside_is_told():
    ground = with_holes(lambda z: z.__setitem__((slice(None), slice(100, 110)), np.nan))
    outcome = run({"against": "level", "level": 200.0, "outline": AROUND}, surface=ground)
    assert found(outcome)["unmeasured"] > 100.0 and any("has no height" in t for t in outcome.warnings)


@pytest.mark.parametrize(("settings", "words"), [
    ({"outline": [(0, 0), (50, 50), (50, 0), (0, 50)]}, "no clean area"),
    ({"outline": [(500, 500), (600, 500), (600, 600)]}, "outside"),
    ({"outline": [(0, 0), (5, 5)]}, "2 corners"),
    ({}, "no outline"),
    ({"outline": AROUND, "against": "level"}, "No level"),
    ({"outline": AROUND, "against": "surface"}, "none is chosen"),
])  # fmt: skip
def test_what_cannot_be_reckoned_is_refused_in_words(settings, words):
    with pytest.raises(MossError, match=words):
        run(settings, surface=grid(cone))


def test_an_outline_without_any_height_is_refused():
    ground = with_holes(lambda z: (z.fill(np.nan), z.__setitem__((0, 0), 1.0)))
    with pytest.raises(MossError, match="edge"):
        run({"outline": AROUND}, surface=ground)
    with pytest.raises(MossError, match="No height"):
        run({"outline": AROUND, "against": "level", "level": 1.0}, surface=ground)
