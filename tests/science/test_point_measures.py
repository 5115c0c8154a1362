"""Measures of shape held against NumPy's eigenvalues over neighbours from SciPy's tree, and against planes, lines and balls."""

from pathlib import Path

import numpy as np
import pytest
from scipy.spatial import cKDTree

from moss_step.formats.cloud_source import read_source
from moss_step.model.cloud import Cloud
from moss_step.model.errors import MossError
from moss_step.model.units import UNITS
from moss_step.science.points.measures import FORMS, SHAPES, band_statistics, forms_of, shape_measures
from moss_step.science.points.near import near_of, plan_in_metres

LIDAR = Path(__file__).parents[1] / "data"


def wild(n=1500, seed=3):
    """Points at random, crowded at one side, some on top of others."""
    rng = np.random.default_rng(seed)
    x, y = 30.0 * rng.random(n) ** 2, 20.0 * rng.random(n)
    z = 3.0 * rng.random(n) * (rng.random(n) < 0.5) + 0.2 * x
    return Cloud(np.r_[x, x[:9]], np.r_[y, y[:9]], np.r_[z, z[:9]])


def by_numpy(points, radius):
    """All measures of each point, the plain way."""
    tree = cKDTree(points)
    out = np.full((len(points), len(SHAPES)), np.nan)
    for i, near in enumerate(tree.query_ball_point(points, radius)):
        q = points[near]
        beside = (np.hypot(*(points[:, :2] - points[i, :2]).T) <= radius).sum()
        row = {
            "point_density": len(q) / (4.0 / 3.0 * np.pi * radius**3), "height_range": np.ptp(q[:, 2]), "echo_ratio": len(q) / beside,
        }  # fmt: skip
        if len(q) >= 3:
            row["height_deviation"] = q[:, 2].std()
            values, vectors = np.linalg.eigh(np.cov(q.T, bias=True))
            c, b, a = np.maximum(values, 0.0)
            if a > 1e-12 * radius**2:
                e = np.array([a, b, c]) / (a + b + c)
                row |= {
                    "linearity": (a - b) / a, "planarity": (b - c) / a, "scattering": c / a, "anisotropy": (a - c) / a,
                    "omnivariance": np.cbrt(e.prod()), "eigenentropy": -sum(v * np.log(v) for v in e if v > 0.0), "surface_variation": e[2],
                }  # fmt: skip
                if b > 1e-9 * a:
                    n = vectors[:, 0]
                    row |= {
                        "verticality": 1.0 - abs(n[2]),
                        "roughness": abs(n @ (points[i] - q.mean(axis=0))),
                    }
        out[i] = [row.get(name, np.nan) for name in SHAPES]
    return out


@pytest.mark.parametrize("radius", [0.4, 1.0, 3.7])
def test_every_measure_is_that_of_numpys_eigenvalues_over_scipys_neighbours(radius):
    cloud = wild()
    wanted = by_numpy(np.column_stack([cloud.x, cloud.y, cloud.z]), radius)
    found = shape_measures(cloud, [radius], SHAPES)
    assert sorted(found) == sorted(f"{n}_{round(radius * 100)}cm" for n in SHAPES)
    for k, name in enumerate(SHAPES):
        np.testing.assert_allclose(
            found[f"{name}_{round(radius * 100)}cm"], wanted[:, k], rtol=2e-5, atol=3e-5, err_msg=name
        )
    assert np.isfinite(wanted[:, SHAPES.index("linearity")]).mean() > 0.1


@pytest.mark.parametrize("name", ["autzen_trim.laz", "lambert93.laz", "plane.laz", "simple.copc.laz"])
def test_real_clouds_have_the_measures_of_numpy(name):
    path = LIDAR / name
    flat = plan_in_metres(read_source(str(path)).cloud)
    some = flat.part(slice(0, 4000))
    radius = 2.5 * (np.ptp(some.x) * np.ptp(some.y) / len(some)) ** 0.5
    points = np.column_stack([some.x, some.y, some.z])
    found = shape_measures(some, [radius], ["linearity", "planarity", "verticality"])
    rows = np.random.default_rng(1).choice(len(points), min(300, len(points)), replace=False)
    tree = cKDTree(points)
    for i in rows:
        q = points[tree.query_ball_point(points[i], radius * (1.0 + 1e-9))]
        told = [float(v[i]) for v in found.values()]
        values, vectors = np.linalg.eigh(np.cov(q.T, bias=True)) if len(q) > 2 else (np.zeros(3), np.eye(3))
        c, b, a = values
        if len(q) < 3 or a <= 1e-9 * radius**2:
            assert np.isnan(told[0])
        elif b > 1e-6 * a and b - c > 1e-6 * a:  # else the plane is one of many
            np.testing.assert_allclose(told, [(a - b) / a, (b - c) / a, 1.0 - abs(vectors[2, 0])], atol=1e-4)


def test_a_plane_a_line_and_a_ball_have_the_shapes_that_they_are():
    rng = np.random.default_rng(2)
    at = np.arange(-10.0, 10.0, 0.25)
    x, y = (v.ravel() for v in np.meshgrid(at, at))
    middle = int(np.argmin(np.hypot(x, y)))
    plane = shape_measures(Cloud(x, y, x * np.tan(np.radians(30.0))), [3.0], SHAPES)
    assert plane["planarity_300cm"][middle] == pytest.approx(1.0, abs=0.06)
    assert plane["verticality_300cm"][middle] == pytest.approx(1.0 - np.cos(np.radians(30.0)), abs=1e-6)
    assert plane["roughness_300cm"][middle] == pytest.approx(0.0, abs=1e-6)
    line = shape_measures(Cloud(at, 2.0 * at, 0.5 * at), [5.0], SHAPES)
    assert line["linearity_500cm"][40] == pytest.approx(1.0, abs=1e-6)
    assert np.isnan(line["verticality_500cm"]).all()  # a line lies in many planes
    ball = rng.normal(size=(20_000, 3))
    ball = ball / np.linalg.norm(ball, axis=1)[:, None] * rng.random(20_000)[:, None] ** (1 / 3)
    ball[0] = 0.0
    round_ = shape_measures(Cloud(*ball.T), [0.9], SHAPES)
    assert round_["scattering_90cm"][0] == pytest.approx(1.0, abs=0.03)
    assert round_["eigenentropy_90cm"][0] == pytest.approx(np.log(3.0), abs=1e-3)
    assert round_["omnivariance_90cm"][0] == pytest.approx(1.0 / 3.0, abs=1e-3)
    assert round_["point_density_90cm"][0] == pytest.approx(20_000 / (4.0 / 3.0 * np.pi), rel=0.03)


def test_the_best_radius_is_the_one_of_least_entropy():
    cloud = wild()
    radii = [0.6, 1.2, 2.4]
    each = shape_measures(cloud, radii, ["eigenentropy", "planarity"])
    best = shape_measures(cloud, radii, ["eigenentropy", "planarity"], best=True)
    entropy = np.column_stack([each[f"eigenentropy_{round(r * 100)}cm"] for r in radii])
    known = np.isfinite(entropy).any(axis=1)
    np.testing.assert_allclose(best["eigenentropy"][known], np.nanmin(entropy[known], axis=1))
    picked = np.nanargmin(np.where(known[:, None], entropy, 0.0), axis=1)
    np.testing.assert_allclose(best["best_radius"][known], np.array(radii, np.float32)[picked[known]])
    flat = np.column_stack([each[f"planarity_{round(r * 100)}cm"] for r in radii])
    np.testing.assert_array_equal(best["planarity"][known], flat[np.flatnonzero(known), picked[known]])


def test_no_point_is_lost_at_the_rim():
    """A rim that falls on the border of cells, whatever is rounded."""
    rng = np.random.default_rng(5)
    for _ in range(300):
        side, cells = float(rng.uniform(0.1, 3.0)), int(rng.integers(1, 40))
        at = rng.uniform(-5e5, 5e6) + np.linspace(0.0, side * cells, 17)
        assert len(near_of(Cloud(at, at[::-1] * 0.3, np.zeros(17)), side).order) == 17


def test_means_of_attributes_are_those_of_the_neighbours():
    cloud = wild(400)
    values = np.random.default_rng(4).random(len(cloud)) * 1e4 + 5e4
    found = band_statistics(cloud, [1.5], {"intensity": values})
    points = np.column_stack([cloud.x, cloud.y, cloud.z])
    near = cKDTree(points).query_ball_point(points, 1.5)
    np.testing.assert_allclose(found["intensity_mean_150cm"], [values[n].mean() for n in near], rtol=1e-6)
    np.testing.assert_allclose(
        found["intensity_deviation_150cm"], [values[n].std() for n in near], rtol=1e-4, atol=1e-2
    )


def test_points_without_a_height_count_for_nothing():
    cloud = wild(300)
    holed = Cloud(cloud.x, cloud.y, np.where(np.arange(len(cloud)) % 7 == 0, np.nan, cloud.z))
    known = np.isfinite(holed.z)
    found = shape_measures(holed, [2.0], ["planarity"])["planarity_200cm"]
    assert np.isnan(found[~known]).all()
    np.testing.assert_array_equal(
        found[known], shape_measures(holed.part(known), [2.0], ["planarity"])["planarity_200cm"]
    )


def test_feet_and_degrees_measure_the_same_metres():
    cloud = wild(600)
    feet = Cloud(cloud.x, cloud.y, cloud.z / 0.3048, {}, "EPSG:32628", UNITS["foot"])
    wanted = shape_measures(
        plan_in_metres(Cloud(cloud.x, cloud.y, cloud.z, {}, "EPSG:32628", UNITS["metre"])),
        [2.0],
        ["scattering"],
    )
    np.testing.assert_allclose(
        shape_measures(plan_in_metres(feet), [2.0], ["scattering"])["scattering_200cm"],
        wanted["scattering_200cm"],
        atol=1e-5,
    )


def test_far_points_take_no_grid_beyond_memory():
    far = Cloud(np.array([0.0, 1e6, 1.0]), np.array([0.0, 1e6, 0.0]), np.zeros(3))
    near = near_of(far, 0.5)
    assert near.shape[0] * near.shape[1] <= 40
    found, _ = forms_of(far, 0.5)
    assert np.isnan(found[:, FORMS.index("linearity")]).all()


def test_a_radius_of_nothing_is_refused():
    with pytest.raises(MossError, match="radius"):
        shape_measures(wild(10), [0.0], ["planarity"])
    with pytest.raises(MossError, match="No radius"):
        shape_measures(wild(10), [], ["planarity"])
