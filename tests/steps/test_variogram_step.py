"""Variograms as a step: bearings, pairs, and distances that are metres in degrees, too."""

import numpy as np
import pytest
import shapely

from moss_step.model.frame import carried
from moss_step.model.progress import silent
from moss_step.model.shapes import Shapes
from moss_step.steps.catalogue import catalogue
from moss_step.study.declared import run_declared

UTM = "EPSG:32628"


def places(count=200):
    rng = np.random.default_rng(4)
    x, y = 413_000.0 + rng.uniform(0, 400, count), 5_870_500.0 + rng.uniform(0, 400, count)
    return x, y, np.sin(x / 30.0)


def run(x, y, z, crs=UTM, **settings):
    held = Shapes(np.asarray(shapely.points(x, y)), {"z": z}, crs, {"z": "m"})
    return run_declared(catalogue()["variogram"], settings, {"points": held}, silent())


def test_values_that_change_along_the_east_are_alike_along_the_north():
    columns = run(*places(), directions=True).value.columns
    near = columns["distance"] < 60.0
    assert np.nanmean(columns["east"][near]) > 3.0 * np.nanmean(columns["north"][near])
    diagonal = np.nanmean(columns["north_east"][near]), np.nanmean(columns["south_east"][near])
    assert diagonal[0] == pytest.approx(diagonal[1], rel=0.3)


def test_the_curve_is_half_of_the_mean_squared_difference():
    x, y, z = places(60)
    outcome = run(x, y, z, lag=20.0, longest=120.0)
    columns = outcome.value.columns
    seen = np.isfinite(columns["semivariance"])
    i, j = np.triu_indices(60, 1)
    h = np.hypot(x[i] - x[j], y[i] - y[j])
    for k, (at, half, pairs) in enumerate(
        zip(*(columns[n][seen] for n in ("distance", "semivariance", "pairs")), strict=True)
    ):
        some = (h >= 20.0 * k) & (h < 20.0 * (k + 1))
        assert pairs == some.sum() and at == pytest.approx(h[some].mean())
        assert half == pytest.approx(0.5 * ((z[i] - z[j])[some] ** 2).mean())
    table = outcome.beside["pairs"]().value.columns
    first, second = table["first"] - 1, table["second"] - 1
    assert np.allclose(table["semivariance"], 0.5 * (z[first] - z[second]) ** 2)
    assert np.allclose(table["distance"], np.hypot(x[first] - x[second], y[first] - y[second]))


def test_the_map_is_the_mean_of_pairs_by_their_way_and_shows_the_bearing():
    x, y, z = places(120)
    columns = run(x, y, z, longest=100.0).beside["map"]().value.columns
    i, j = np.triu_indices(120, 1)
    side = 2.0 * 100.0 / 21
    for at in (3 * 21 + 12, 10 * 21 + 14, 20 * 21 + 5):
        e, n = columns["east_m"][at], columns["north_m"][at]
        some = np.zeros(i.size, bool)
        for sign in (1.0, -1.0):
            some |= (np.abs(sign * (x[j] - x[i]) - e) < side / 2) & (
                np.abs(sign * (y[j] - y[i]) - n) < side / 2
            )
        assert columns["pairs"][at] == some.sum()
        assert columns["semivariance"][at] == pytest.approx(0.5 * ((z[j] - z[i])[some] ** 2).mean())
    grid = columns["semivariance"].reshape(21, 21)
    assert np.allclose(grid, grid[::-1, ::-1], equal_nan=True)
    assert np.nanmean(grid[:, 10]) < 0.3 * np.nanmean(grid[10, :]), "alike along the north"


def test_in_degrees_distances_are_metres():
    x, y, z = places()
    lon, lat = carried(UTM, "EPSG:4326", x, y)
    plain, degrees = (
        run(x, y, z, longest=150.0, shape="spherical"),
        run(lon, lat, z, "EPSG:4326", longest=150.0, shape="spherical"),
    )
    found = [{f.name: f.value for f in o.findings} for o in (plain, degrees)]
    assert found[0]["range"] == pytest.approx(found[1]["range"], rel=0.02)
    assert found[0]["sill"] == pytest.approx(found[1]["sill"], rel=0.02)
