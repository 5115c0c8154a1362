"""Interpolation as a step: outlines, break lines, units, what is said, and what is refused."""

import numpy as np
import pytest
import shapely

from moss_step.model.errors import MossError
from moss_step.model.progress import silent
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.steps.catalogue import catalogue
from moss_step.study.declared import run_declared

UTM = "EPSG:32628"
METHODS = ("kriging", "tin", "natural_neighbour", "inverse_distance", "nearest", "spline")
SHORE = shapely.Point(200.0, 200.0).buffer(150.0)


def depth(x, y):
    return 12.0 * np.maximum(1.0 - ((x - 200.0) ** 2 + (y - 200.0) ** 2) / 150.0**2, 0.0)


def soundings(count=300, noise=0.0, unit="m", seed=1):
    rng = np.random.default_rng(seed)
    angle, r = rng.uniform(0, 2 * np.pi, count), 145.0 * np.sqrt(rng.uniform(0, 1, count))
    x, y = 200.0 + r * np.cos(angle), 200.0 + r * np.sin(angle)
    z = depth(x, y) + rng.normal(0, noise, count) if noise else depth(x, y)
    return Shapes(np.asarray(shapely.points(x, y)), {"depth": z}, UTM, {"depth": unit})


def shore():
    return Shapes(np.array([SHORE], object), {}, UTM)


def run(settings, kind="interpolate", **inputs):
    return run_declared(catalogue()[kind], settings, inputs, silent())


def off(surface):
    f = surface.frame
    x, y = np.meshgrid(f.x0 + (np.arange(f.cols) + 0.5) * f.dx, f.y0 - (np.arange(f.rows) + 0.5) * f.dy)
    return surface.values - depth(x, y)


@pytest.mark.parametrize("method", METHODS)
def test_a_tarn_is_found_between_its_soundings(method):
    """Within the shore alone, where it is 0 deep, and near the true bed."""
    outcome = run({"method": method, "edge_value": 0.0, "cell": 5.0}, points=soundings(), area=shore())
    surface = outcome.value
    errors = off(surface)
    known = np.isfinite(errors)
    f = surface.frame
    x, y = np.meshgrid(f.x0 + (np.arange(f.cols) + 0.5) * f.dx, f.y0 - (np.arange(f.rows) + 0.5) * f.dy)
    inside = shapely.contains_xy(SHORE, x, y)
    assert not (known & ~inside).any() and known.sum() > 0.99 * inside.sum()
    bound = {"nearest": 1.2, "inverse_distance": 1.0}.get(method, 0.2)
    assert np.sqrt(np.nanmean(errors**2)) < bound
    assert surface.unit.key == "metre"


def test_the_error_that_kriging_expects_is_the_error_there_is():
    """With noise of 0.3 m: nine in ten cells and more lie within 1.96 times what is expected, and so do soundings left out."""
    outcome = run({"edge_value": 0.0, "cell": 5.0}, points=soundings(400, 0.3), area=shore())
    error = outcome.beside["error"]().value
    share = np.abs(off(outcome.value)) <= 1.96 * error.values
    assert share[np.isfinite(error.values)].mean() > 0.9
    found = {f.name: f.value for f in outcome.findings}
    assert 0.5 < found["standardised_spread"] < 1.5 and found["nugget"] < found["sill"]
    residuals = outcome.beside["residuals"]().value
    assert np.allclose(
        residuals.columns["measured"] - residuals.columns["foretold"], residuals.columns["residual"]
    )


def test_residuals_are_plotted_and_the_worst_are_named_in_their_order():
    made = run({"cell": 10.0}, points=soundings())
    left, plot = made.beside["residuals"]().value, made.beside["residual_plot"]().value
    off = left.columns["residual"]
    named = {int(t.partition(":")[0]): at for at, t in enumerate(left.columns["worst"]) if t}
    order = np.argsort(-np.abs(off), kind="stable")[:10]
    assert [named[k] for k in range(1, 11)] == order.tolist()
    assert plot.dots == ("residual",) and (np.diff(plot.columns["foretold"]) >= 0).all()
    assert np.allclose(np.sort(plot.columns["residual"]), np.sort(off))


def test_a_stated_variogram_stands_and_what_is_left_out_is_fitted():
    given = {"variogram": "spherical", "nugget": 0.1, "sill": 20.0, "range": 180.0, "cell": 10.0}
    found = {f.name: f.value for f in run(given, points=soundings()).findings}
    assert (found["nugget"], found["sill"], found["range"]) == (0.1, 20.0, 180.0)
    part = {f.name: f.value for f in run({"nugget": 0.25, "cell": 10.0}, points=soundings()).findings}
    assert part["nugget"] == 0.25 and part["range"] > 0
    with pytest.raises(MossError, match="sill"):
        run({"variogram": "spherical", "nugget": 3.0, "sill": 2.0, "range": 100.0}, points=soundings())


def test_a_break_line_stands_in_the_grid():
    """A wall of 9 m between soundings of a level floor."""
    rng = np.random.default_rng(2)
    x, y = rng.uniform(0, 100, 200), rng.uniform(0, 100, 200)
    floor = Shapes(np.asarray(shapely.points(x, y)), {"z": np.zeros(200)}, UTM)
    wall = Shapes(np.array([shapely.LineString([(20, 50, 9.0), (80, 50, 9.0)])], object), {}, UTM)
    surface = run({"method": "tin", "cell": 1.0, "column": "z"}, points=floor, breaklines=wall).value
    f = surface.frame
    row = [f.cell_at(40.5, 50.5)[0], f.cell_at(40.5, 49.5)[0]]
    assert surface.values[row, f.cell_at(40.5, 50.5)[1]].max() > 6.0


def test_contours_are_places_with_heights():
    lines = [shapely.Point(200.0, 200.0).buffer(r).exterior for r in (30.0, 60.0, 90.0, 120.0)]
    heights = np.array([depth(200.0 + r, 200.0) for r in (30.0, 60.0, 90.0, 120.0)])
    contours = Shapes(np.array(lines, object), {"elevation": heights}, UTM)
    surface = run({"method": "natural_neighbour", "cell": 4.0}, points=contours).value
    assert np.sqrt(np.nanmean(off(surface)[20:40, 20:40] ** 2)) < 1.0


def test_places_in_one_place_count_once_and_that_is_said():
    two = soundings(50)
    again = Shapes(
        np.concatenate([two.geometry, two.geometry[:5]]),
        {"depth": np.concatenate([two.columns["depth"], two.columns["depth"][:5] + 1.0])}, UTM,
    )  # fmt: skip
    outcome = run({"cell": 10.0}, points=again)
    assert any("5 places stand more than once" in w for w in outcome.warnings)
    assert {f.name: f.value for f in outcome.findings}["places"] == 50


def test_nothing_is_made_up_beyond_the_places_unless_asked():
    held = soundings(60)
    hull = shapely.convex_hull(shapely.multipoints(held.geometry))
    for method in METHODS:
        surface = run({"method": method, "cell": 5.0}, points=held).value
        f, known = surface.frame, ~np.isnan(surface.values)
        x, y = np.meshgrid(f.x0 + (np.arange(f.cols) + 0.5) * f.dx, f.y0 - (np.arange(f.rows) + 0.5) * f.dy)
        assert not (known & ~shapely.contains_xy(hull.buffer(1e-6), x, y)).any(), method
    assert not np.isnan(run({"cell": 5.0, "beyond": True}, points=held).value.values).any()
    near = run({"cell": 5.0, "reach": 8.0}, points=held).value
    assert np.isnan(near.values).mean() > 0.3


def test_values_follow_another_surface_where_that_is_the_drift():
    """Values that are twice a surface, known at twelve places: everywhere else, too."""
    rng = np.random.default_rng(5)
    frame = run({"cell": 5.0}, points=soundings()).value.frame
    y, x = np.mgrid[0 : frame.rows, 0 : frame.cols]
    under = Surface((np.sin(x / 6.0) + np.cos(y / 9.0)).astype(np.float32), frame)
    rows, cols = rng.integers(2, frame.rows - 2, 12), rng.integers(2, frame.cols - 2, 12)
    points = shapely.points(frame.x0 + (cols + 0.5) * 5.0, frame.y0 - (rows + 0.5) * 5.0)
    held = Shapes(np.asarray(points), {"z": 2.0 * under.values[rows, cols].astype(float) + 1.0}, UTM)
    given = {"variogram": "spherical", "sill": 1.0, "range": 50.0, "nugget": 0.0, "beyond": True}
    surface = run(given, points=held, drift=under, like=under).value
    assert np.abs(surface.values - (2.0 * under.values + 1.0)).max() < 1e-3


def test_anisotropy_is_a_bearing_and_a_ratio():
    """Values that change along the east alone: with ranges ten times as long to the north, foretold better."""
    rng = np.random.default_rng(8)
    x, y = rng.uniform(0, 300, 90), rng.uniform(0, 300, 90)
    held = Shapes(np.asarray(shapely.points(x, y)), {"z": np.sin(x / 15.0)}, UTM)
    rmse = {}
    for ratio, direction in ((1.0, 0.0), (0.1, 0.0), (0.1, 90.0)):
        given = {
            "variogram": "spherical",
            "sill": 1.0,
            "range": 300.0 if ratio < 1 else 60.0,
            "ratio": ratio,
            "direction": direction,
            "cell": 20.0,
        }
        rmse[ratio, direction] = {f.name: f.value for f in run(given, points=held).findings}["rmse"]
    assert rmse[0.1, 0.0] < 0.6 * rmse[1.0, 0.0] < rmse[0.1, 90.0]


def test_methods_stand_in_the_order_of_their_errors():
    outcome = run({}, kind="compare_methods", points=soundings(300, 0.3))
    table = outcome.value.columns
    assert set(table["method"]) == set(METHODS) and np.all(np.diff(table["rmse"]) >= 0)
    kriged = list(table["method"]).index("kriging")
    assert 0.5 < table["standardised_spread"][kriged] < 2.0 and list(table["method"])[-1] in (
        "nearest",
        "inverse_distance",
    )


def test_many_places_count_where_they_are_near():
    outcome = run(
        {"cell": 10.0, "variogram": "spherical", "sill": 20.0, "range": 200.0}, points=soundings(6000)
    )
    assert any("24 near each cell" in w for w in outcome.warnings)
    assert np.sqrt(np.nanmean(off(outcome.value) ** 2)) < 0.1


@pytest.mark.parametrize(
    ("points", "settings", "words"),
    [
        (soundings(1), {}, "too few"),
        (soundings(2), {"method": "tin"}, "three"),
        (Shapes(np.asarray(shapely.points([0, 1, 2, 3], [0, 1, 2, 3])), {"z": np.arange(4.0)}, UTM), {"method": "tin"}, "one line"),
        (Shapes(np.asarray(shapely.points([0, 1, 2, 3], [0, 1, 2, 3])), {"z": np.arange(4.0)}, UTM), {"method": "spline"}, "one line"),
        (Shapes(np.asarray(shapely.points(np.zeros(9), np.zeros(9))), {"z": np.arange(9.0)}, UTM), {}, "too few"),
        (soundings(40), {"column": "name"}, "no column 'name'"),
        (Shapes(soundings(9).geometry, {"depth": np.array(["deep"] * 9, object)}, UTM), {}, "No place has a number"),
        (Shapes(np.array([shapely.box(0, 0, 1, 1)], object), {"z": np.ones(1)}, UTM), {}, "Areas are no places"),
        (soundings(40), {"cell": 1e-6}, "larger cells"),
        (soundings(40), {"cell": 5000.0, "reach": 0.001}, "No cell lies between"),
    ],
)  # fmt: skip
def test_what_cannot_be_is_refused_in_words(points, settings, words):
    with pytest.raises(MossError, match=words):
        run(settings, points=points)
