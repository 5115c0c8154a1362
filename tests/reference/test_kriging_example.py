"""The worked example of ordinary kriging in Isaaks & Srivastava 1989, An Introduction to Applied Geostatistics, chapter 12.

Seven samples, an exponential model with sill 10, range 10 and no nugget, covariance 10 exp(-3h/10), at (65, 137). Figures recalled from memory
and backed by the equations solved anew in NumPy."""

import numpy as np
import pytest

from moss_step.science.interpolate.kriging import Kriging, Samples, estimates_near
from moss_step.science.interpolate.variogram import Variogram

X = np.array([61.0, 63.0, 64.0, 68.0, 71.0, 73.0, 75.0])
Y = np.array([139.0, 140.0, 129.0, 128.0, 140.0, 141.0, 128.0])
V = np.array([477.0, 696.0, 227.0, 646.0, 606.0, 791.0, 783.0])
AT = np.array([65.0]), np.array([137.0]), np.ones((1, 1))
WEIGHTS = np.array([0.173, 0.318, 0.129, 0.086, 0.151, 0.057, 0.086])
MODEL = Variogram.single("exponential", 10.0, 10.0)


def solved_anew():
    c = 10.0 * np.exp(-0.3 * np.hypot(X[:, None] - X, Y[:, None] - Y))
    d = 10.0 * np.exp(-0.3 * np.hypot(X - 65.0, Y - 137.0))
    left = np.block([[c, np.ones((7, 1))], [np.ones((1, 7)), np.zeros((1, 1))]])
    return np.linalg.solve(left, np.append(d, 1.0)), d


def weights(estimate):
    """The weight of each sample: what the estimate is where it alone is 1."""
    return np.array([estimate(np.eye(7)[k]) for k in range(7)])


def test_weights_estimate_and_variance_are_those_of_the_book():
    found, d = solved_anew()

    def at(values):
        return Kriging(Samples(X, Y, values, np.ones((7, 1))), MODEL).estimates(*AT)[0]

    assert np.abs(weights(at) - WEIGHTS).max() <= 5.1e-4 and np.allclose(weights(at), found[:7], atol=1e-9)
    assert weights(at).sum() == pytest.approx(1.0, abs=1e-9)
    assert at(V) == pytest.approx(592.7, abs=0.05) and at(V) == pytest.approx(found[:7] @ V)
    variance = Kriging(Samples(X, Y, V, np.ones((7, 1))), MODEL).variances(*AT)[0]
    assert variance == pytest.approx(8.96, abs=5e-3) and variance == pytest.approx(
        10.0 - found @ np.append(d, 1.0)
    )


def test_near_samples_say_the_same():
    def at(values):
        return estimates_near(Samples(X, Y, values, np.ones((7, 1))), MODEL, *AT, 7)[0][0]

    assert np.abs(weights(at) - WEIGHTS).max() <= 5.1e-4 and at(V) == pytest.approx(592.7, abs=0.05)
    spread = estimates_near(Samples(X, Y, V, np.ones((7, 1))), MODEL, *AT, 7)[1][0]
    assert spread**2 == pytest.approx(8.96, abs=5e-3)
