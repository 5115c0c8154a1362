"""Variograms: of pairs against NumPy, and models found again in what they make."""

import numpy as np
import pytest

from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.science.interpolate.variogram import (
    SHAPES,
    Experimental,
    Structure,
    Variogram,
    experimental,
    fit,
    pair_cloud,
)


@pytest.fixture
def field():
    rng = np.random.default_rng(1)
    x, y = rng.uniform(0, 300, 120), rng.uniform(0, 300, 120)
    return x, y, np.sin(x / 40.0) + np.cos(y / 60.0)


@pytest.mark.parametrize("bearing", [None, 0.0, 60.0, 135.0])
def test_pairs_are_those_of_numpy(field, bearing):
    x, y, z = field
    seen = experimental(x, y, z, lag=20.0, longest=200.0, bearing=bearing)
    i, j = np.triu_indices(x.size, 1)
    dx, dy = x[j] - x[i], y[j] - y[i]
    h, half = np.hypot(dx, dy), 0.5 * (z[j] - z[i]) ** 2
    kept = h <= 200.0
    if bearing is not None:
        turn = (np.degrees(np.arctan2(dx, dy)) - bearing + 90.0) % 180.0 - 90.0
        kept &= np.abs(turn) <= 22.5
    lag = (h[kept] / 20.0).astype(int)
    count = np.bincount(lag, minlength=10)
    assert np.array_equal(seen.pairs, count[count > 0])
    assert np.allclose(
        seen.semivariance, (np.bincount(lag, half[kept], 10) / np.maximum(count, 1))[count > 0]
    )


def test_a_bearing_is_clockwise_from_north():
    """Values that change along the east alone differ along 90 degrees, and not along 0."""
    x, y = (v.ravel() for v in np.meshgrid(np.arange(0.0, 100.0, 10.0), np.arange(0.0, 100.0, 10.0)))
    east = experimental(x, y, x, bearing=90.0, tolerance=5.0)
    north = experimental(x, y, x, bearing=0.0, tolerance=5.0)
    assert (
        np.allclose(east.semivariance, 0.5 * east.distance**2, rtol=0.05) and north.semivariance.max() == 0.0
    )


@pytest.mark.parametrize("shape", SHAPES)
def test_a_model_is_found_again(shape):
    true = Variogram(0.8, (Structure(shape, 5.2, 140.0),))
    h = np.linspace(5.0, 300.0, 30)
    found = fit(Experimental(h, true.semivariance(h), np.full(30, 60)), shape)
    part = found.structures[0]
    assert (found.nugget, part.sill, part.range) == pytest.approx((0.8, 5.2, 140.0), rel=2e-3)


def test_the_best_shape_is_chosen():
    true = Variogram(0.0, (Structure("spherical", 5.2, 140.0),))
    h = np.linspace(5.0, 300.0, 30)
    assert fit(Experimental(h, true.semivariance(h), np.full(30, 60))).structures[0].shape == "spherical"


@pytest.mark.parametrize("shape", SHAPES)
@pytest.mark.parametrize("smoothness", [1.5, 2.5])
def test_a_fit_is_no_worse_than_the_best_from_many_beginnings(shape, smoothness):
    """Held against a general library's least squares, begun at 24 places, on lags that are a fifth off."""
    from scipy.optimize import least_squares

    rng = np.random.default_rng(len(shape))
    h, pairs = np.linspace(8.0, 200.0, 14), rng.integers(20, 400, 14)
    true = Variogram(0.6, (Structure(shape, 3.0, 110.0, smoothness),))
    gamma = true.semivariance(h) * np.exp(rng.normal(0.0, 0.2, h.size))

    def off(p):
        said = Variogram(p[0], (Structure(shape, p[1], p[2], smoothness),)).semivariance(h)
        return np.sqrt(pairs / pairs.sum()) * (gamma / said - 1.0)

    def cost(p):
        return float((off(p) ** 2).sum())

    low, high = [1e-6, 1e-3, 1.0], [8.0, 60.0, 1900.0]
    starts = [(n, s, r) for n in (0.01, 1.0) for s in (1.0, 3.0, 8.0) for r in (20.0, 80.0, 200.0, 600.0)]
    best = min(least_squares(off, s, bounds=(low, high), x_scale=(1, 1, 50)).cost for s in starts) * 2.0
    base = Variogram(0.0, (Structure(shape, 1.0, 1.0, smoothness),))
    made = fit(Experimental(h, gamma, pairs), shape, base)
    part = made.structures[0]
    assert cost((max(made.nugget, 1e-6), part.sill, part.range)) <= best * 1.001


@pytest.mark.parametrize("shape", SHAPES)
@pytest.mark.parametrize("smoothness", [1.5, 2.5])
def test_the_range_is_where_95_in_100_are_reached(shape, smoothness):
    part = Structure(shape, 4.0, 120.0, smoothness)
    reached = float(Variogram(1.0, (part,)).semivariance(np.array([120.0]))[0])
    assert reached == pytest.approx(5.0 if shape == "spherical" else 1.0 + 0.95 * 4.0, abs=0.01)


def test_nested_structures_add_up():
    two = Variogram(0.5, (Structure("spherical", 2.0, 50.0), Structure("exponential", 3.0, 300.0)))
    h = np.array([0.0, 10.0, 60.0, 1000.0])
    alone = [Variogram(0.0, (s,)).semivariance(h) for s in two.structures]
    assert np.allclose(two.semivariance(h), np.where(h > 0, 0.5, 0.0) + alone[0] + alone[1])
    assert two.sill == 5.5


def test_the_cloud_of_pairs_has_each_pair_once(field):
    x, y, z = field
    made = pair_cloud(x[:20], y[:20], z[:20])
    assert len(made) == 190 and len({tuple(r) for r in made[:, 3:].tolist()}) == 190
    i, j = made[0, 3:].astype(int)
    assert made[0, 2] == pytest.approx(0.5 * (z[j] - z[i]) ** 2)


@pytest.mark.parametrize(
    ("make", "words"),
    [
        (lambda: Structure("spherical", 1.0, 0.0), "ranges above 0"),
        (lambda: Structure("spherical", -1.0, 5.0), "Sills"),
        (lambda: Variogram(-0.1, ()), "nugget"),
        (lambda: Variogram(0.0, (), ratio=0.0), "ratio"),
    ],
)
def test_what_no_variogram_has_is_refused(make, words):
    with pytest.raises(AskedWronglyError, match=words):
        make()


def test_values_all_alike_have_no_variogram():
    x = np.arange(30.0)
    with pytest.raises(MossError, match="alike"):
        fit(experimental(x, np.zeros(30), np.full(30, 4.0)))
    with pytest.raises(MossError, match="two places"):
        experimental(np.zeros(3), np.zeros(3), np.arange(3.0))
