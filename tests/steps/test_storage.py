"""Volume under a level: mathematics, the level for a volume, the curve, the shoreline, and a TIN beside the grid."""

import numpy as np
import pytest
import shapely

from moss_step.model.errors import MossError
from moss_step.model.frame import Frame
from moss_step.model.progress import silent
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.units import FOOT, METRE
from moss_step.science.interpolate.places import Measured
from moss_step.science.interpolate.plane import Plane
from moss_step.science.interpolate.tin import triangulate
from moss_step.steps.catalogue import catalogue
from moss_step.study.declared import run_declared

UTM = "EPSG:32628"


def cone(cell=0.5, unit=METRE):
    """A cone of 10 m depth and 50 m radius, its rim at 100."""
    side = int(120 / cell)
    x = (np.arange(side) + 0.5) * cell - 60.0
    r = np.hypot(x, x[:, None])
    z = 90.0 + np.minimum(r / 5.0, 10.0 + (r - 50.0) / 5.0)
    return Surface(
        (z / unit.factor).astype(np.float64), Frame(side, side, -60.0, 60.0, cell, cell, UTM), unit
    )


def run(settings, **inputs):
    outcome = run_declared(catalogue()["storage"], settings, inputs, silent())
    return outcome, {f.name: f.value for f in outcome.findings}


@pytest.mark.parametrize("level", [92.0, 95.0, 100.0])
def test_a_cone_holds_a_third_of_its_cylinder(level):
    _, found = run({"level": level}, surface=cone())
    h = level - 90.0
    r = 5.0 * h
    assert found["volume"] == pytest.approx(np.pi * r * r * h / 3.0, rel=1e-2)
    assert found["plan_area"] == pytest.approx(np.pi * r * r, rel=1e-2)
    assert found["surface_area"] == pytest.approx(np.pi * r * np.hypot(r, h), rel=1.5e-2)
    assert found["mean_depth"] == pytest.approx(h / 3.0, rel=2e-2) and found[
        "greatest_depth"
    ] == pytest.approx(h, abs=0.1)


def made_of(z, cell_x=0.5, cell_y=0.25):
    rows, cols = z.shape
    return Surface(z.astype(np.float64), Frame(rows, cols, 0.0, rows * cell_y, cell_x, cell_y, UTM), METRE)


def middles(width=40.0, height=40.0, cell_x=0.5, cell_y=0.25):
    x = (np.arange(round(width / cell_x)) + 0.5) * cell_x
    y = height - (np.arange(round(height / cell_y)) + 0.5) * cell_y
    return x, y[:, None]


def test_a_wedge_of_water_on_a_tilted_plane():
    """A plane that falls 1 in 4 to the east, level 5 m over its foot: a triangle of 20 by 5 m, 40 m wide."""
    x, y = middles()
    _, found = run({"level": 5.0}, surface=made_of(10.0 - x / 4.0 + 0.0 * y))
    assert found["volume"] == pytest.approx(0.5 * 20.0 * 5.0 * 40.0, rel=1e-3)
    assert found["plan_area"] == pytest.approx(800.0, rel=1e-9)
    assert found["surface_area"] == pytest.approx(800.0 * np.hypot(1.0, 0.25), rel=1e-6)


@pytest.mark.parametrize("rise", [2.0, 4.0])
def test_the_frustum_of_a_pyramid_stands_above_a_level(rise):
    """A pyramid of 20 by 20 m and 10 m, its foot at 0, cut off at 8: between two levels it is h/3 (A + B + √AB)."""
    x, y = middles()
    slope = 10.0 - np.maximum(np.abs(x - 20.0), np.abs(y - 20.0))
    held = np.clip(slope, 0.0, 8.0)
    _, found = run({"level": rise, "side": "above"}, surface=made_of(held))
    lower, upper, h = (2.0 * (10.0 - rise)) ** 2, 4.0**2, 8.0 - rise
    assert found["volume"] == pytest.approx(h / 3.0 * (lower + upper + np.sqrt(lower * upper)), rel=3e-3)


def test_a_spherical_cap():
    """A sphere of 25 m cut 5 m below its top: V = πh²(3r − h)/3 (mathematics)."""
    x, y = middles()
    z = np.sqrt(np.maximum(25.0**2 - (x - 20.0) ** 2 - (y - 20.0) ** 2, 0.0))
    _, found = run({"level": 20.0, "side": "above"}, surface=made_of(z))
    assert found["volume"] == pytest.approx(np.pi * 25.0 * (3 * 25.0 - 5.0) / 3.0, rel=2e-3)
    assert found["surface_area"] == pytest.approx(2.0 * np.pi * 25.0 * 5.0, rel=5e-3)


def test_what_stands_above_a_level():
    outcome, found = run({"level": 98.0, "side": "above"}, surface=cone())
    values = cone().values
    assert found["volume"] == pytest.approx(np.maximum(values - 98.0, 0).sum() * 0.25, rel=1e-6)
    assert np.nanmax(outcome.value.values) == pytest.approx(values.max() - 98.0, abs=1e-4)


def test_the_level_for_a_volume_holds_it():
    _, found = run({"volume": 5000.0}, surface=cone())
    assert found["volume"] == pytest.approx(5000.0, rel=1e-6)
    assert found["level"] == pytest.approx(90.0 + (5000.0 * 3.0 / (25.0 * np.pi)) ** (1.0 / 3.0), rel=1e-4)
    with pytest.raises(MossError, match="more than all"):
        run({"volume": 1e9}, surface=cone())


def test_the_curve_says_what_single_levels_say():
    outcome, _ = run({"level": 95.0}, surface=cone())
    chart = outcome.beside["curve"]().value
    for k in (20, 50, 90):
        _, found = run({"level": float(chart.columns["stage"][k])}, surface=cone())
        assert chart.columns["volume_m3"][k] == pytest.approx(found["volume"], rel=1e-6)
        assert chart.columns["area_m2"][k] == pytest.approx(found["plan_area"], rel=1e-9)


def test_the_shoreline_is_the_circle_at_the_level():
    outcome, _ = run({"level": 95.0}, surface=cone())
    shore = outcome.beside["shoreline"]().value
    assert len(shore) == 1 and shore.columns["length_m"][0] == pytest.approx(2 * np.pi * 25.0, rel=2e-3)


def test_the_tin_and_the_grid_agree_within_two_in_a_thousand():
    r = np.linspace(0.0, 58.0, 59)[1:]
    angle = np.linspace(0.0, 2 * np.pi, 180, endpoint=False)
    x, y = (
        np.append(0.0, (r[:, None] * np.cos(angle)).ravel()),
        np.append(0.0, (r[:, None] * np.sin(angle)).ravel()),
    )
    tin = triangulate(Measured(x, y, 90.0 + np.hypot(x, y) / 5.0), Plane(0, 0, 1, 1), UTM, METRE)
    _, found = run({"level": 99.0}, surface=cone(0.25), tin=tin)
    assert found["tin_volume"] == pytest.approx(np.pi * 45.0**2 * 9.0 / 3.0, rel=1e-3)
    assert abs(found["tin_differs_by"]) < 2e-3


def test_feet_hold_the_same_water():
    _, metres = run({"level": 95.0}, surface=cone())
    _, feet = run({"level": 95.0 / 0.3048}, surface=cone(unit=FOOT))
    for name in ("volume", "plan_area", "surface_area"):
        assert feet[name] == pytest.approx(metres[name], rel=1e-4)
    assert feet["mean_depth"] * 0.3048 == pytest.approx(metres["mean_depth"], rel=1e-4)


def test_an_outline_alone_counts():
    half = Shapes(np.array([shapely.box(-60, -60, 0, 60)], object), {}, UTM)
    _, whole = run({"level": 95.0}, surface=cone())
    _, part = run({"level": 95.0}, surface=cone(), area=half)
    assert part["volume"] == pytest.approx(whole["volume"] / 2.0, rel=1e-6)


def test_nothing_below_is_said():
    outcome, found = run({"level": 10.0}, surface=cone())
    assert found["volume"] == 0.0 and any("Nothing lies below 10" in w for w in outcome.warnings)


@pytest.mark.parametrize("settings", [{}, {"level": 95.0, "volume": 3.0}])
def test_a_level_or_a_volume(settings):
    with pytest.raises(MossError, match="volume"):
        run(settings, surface=cone())
