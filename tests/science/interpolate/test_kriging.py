"""Kriging against mathematics, against leaving samples out by hand, and against two libraries."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from moss_step.model.errors import MossError
from moss_step.science.interpolate.kernels.covariance import falling_exp
from moss_step.science.interpolate.kriging import (
    Kriging,
    Plate,
    Samples,
    drift_of,
    estimates_near,
)
from moss_step.science.interpolate.variogram import SHAPES, Structure, Variogram


def scattered(count=60, seed=1, degree=0):
    rng = np.random.default_rng(seed)
    x, y = rng.uniform(0, 500, count), rng.uniform(0, 400, count)
    z = np.sin(x / 80.0) * 3.0 + y / 100.0 + rng.normal(0, 0.2, count)
    scale = max(np.ptp(x), np.ptp(y))
    return Samples(x, y, z, drift_of(x, y, degree, scale)), scale


def places(count=50, seed=2):
    rng = np.random.default_rng(seed)
    return rng.uniform(50, 450, count), rng.uniform(50, 350, count)


@given(st.floats(0.0, 699.0))
def test_the_falling_exponential_is_that_of_mathematics(u):
    assert falling_exp(u) == pytest.approx(np.exp(-u), rel=2e-13)


@pytest.mark.parametrize("shape", SHAPES)
@pytest.mark.parametrize("degree", [0, 1, 2])
def test_all_samples_near_are_all_samples(shape, degree):
    """Where every sample is near, the equations of a place are those of all."""
    held, scale = scattered(degree=degree)
    x, y = places()
    drift = drift_of(x, y, degree, scale)
    model = Variogram.single(shape, 9.0, 200.0, 0.5)
    whole = Kriging(held, model)
    near, spread = estimates_near(held, model, x, y, drift, len(held))
    assert np.allclose(whole.estimates(x, y, drift), near, atol=1e-8)
    assert np.allclose(np.sqrt(whole.variances(x, y, drift)), spread, atol=1e-7)


@pytest.mark.parametrize("shape", ["spherical", "exponential", "matern"])
def test_without_a_nugget_the_surface_passes_through_each_sample_and_is_sure_there(shape):
    held, _ = scattered()
    whole = Kriging(held, Variogram.single(shape, 9.0, 200.0))
    assert np.allclose(whole.estimates(held.x, held.y, held.drift), held.values, atol=1e-8)
    assert np.allclose(whole.variances(held.x, held.y, held.drift), 0.0, atol=1e-6)


def test_a_nugget_is_left_out_as_noise_or_kept_where_each_sample_is_to_be_met():
    held, _ = scattered()
    model = Variogram.single("spherical", 9.0, 200.0, 1.0)
    calm = Kriging(held, model).estimates(held.x, held.y, held.drift)
    met = Kriging(held, model, nugget_is_noise=False).estimates(held.x, held.y, held.drift)
    assert np.abs(calm - held.values).max() > 0.05 and np.array_equal(met, held.values)


def test_leaving_out_at_once_is_leaving_out_one_by_one():
    """Dubrule 1983, against solving the equations without the sample."""
    held, _ = scattered(25, degree=1)
    model = Variogram.single("exponential", 9.0, 200.0, 0.3)
    errors, spread = Kriging(held, model).left_out()
    for i in range(0, 25, 4):
        rest = np.arange(25) != i
        part = Kriging(Samples(held.x[rest], held.y[rest], held.values[rest], held.drift[rest]), model)
        at = held.x[i : i + 1], held.y[i : i + 1], held.drift[i : i + 1]
        assert errors[i] == pytest.approx(held.values[i] - part.estimates(*at)[0], abs=1e-8)
        assert spread[i] ** 2 == pytest.approx(part.variances(*at)[0] + model.nugget, rel=1e-7)


def test_leaving_folds_out_is_solving_without_them():
    held, _ = scattered(30)
    model = Variogram.single("spherical", 9.0, 200.0, 0.3)
    folds = np.arange(30) % 5
    errors, _ = Kriging(held, model).left_out(folds)
    rest = folds != 2
    part = Kriging(Samples(held.x[rest], held.y[rest], held.values[rest], held.drift[rest]), model)
    out = ~rest
    found = part.estimates(held.x[out], held.y[out], held.drift[out])
    assert np.allclose(errors[out], held.values[out] - found, atol=1e-8)


def test_a_plane_is_given_back_by_a_plane_as_drift():
    held, scale = scattered(degree=1)
    flat = Samples(held.x, held.y, 2.0 * held.x - 3.0 * held.y + 7.0, held.drift)
    x, y = places()
    found = Kriging(flat, Variogram.single("spherical", 9.0, 100.0, 0.1)).estimates(
        x, y, drift_of(x, y, 1, scale)
    )
    assert np.allclose(found, 2.0 * x - 3.0 * y + 7.0, atol=1e-6)


def test_near_samples_leave_no_seam():
    """Along a line in steps of a millimetre no step of the surface is larger than its slope warrants; without
    the loss of weight at the reach there are jumps a hundred times as large.
    """
    held, _ = scattered(400, 5)
    x = np.linspace(200.0, 210.0, 10_001)
    y = np.full(x.size, 200.0)
    found, _ = estimates_near(
        held, Variogram.single("exponential", 9.0, 150.0, 0.2), x, y, np.ones((x.size, 1)), 12
    )
    steps = np.abs(np.diff(found))
    assert steps.max() < 30 * np.median(steps) + 1e-6 and steps.max() < 5e-4


def test_a_thin_plate_is_that_of_a_library():
    """scipy.interpolate.RBFInterpolator with thin_plate_spline (lib)."""
    from scipy.interpolate import RBFInterpolator

    held, scale = scattered(80)
    plane = Samples(held.x, held.y, held.values, drift_of(held.x, held.y, 1, scale))
    x, y = places()
    ours = Kriging(plane, Plate(0.0, scale)).estimates(x, y, drift_of(x, y, 1, scale))
    theirs = RBFInterpolator(np.column_stack([held.x, held.y]), held.values, kernel="thin_plate_spline")
    assert np.allclose(ours, theirs(np.column_stack([x, y])), atol=1e-6)


@pytest.mark.parametrize("shape", ["spherical", "exponential", "gaussian"])
def test_kriging_is_that_of_a_library(shape):
    """PyKrige 1.7 (lib): its ranges are the practical ones for exponential and Gaussian of 3 and 7/4; ours
    are turned into its.
    """
    from pykrige.ok import OrdinaryKriging

    held, _ = scattered()
    model = Variogram.single(shape, 9.0, 200.0, 0.5)
    reach = {"spherical": 200.0, "exponential": 200.0, "gaussian": 200.0 * (7.0 / 4.0) / np.sqrt(3.0)}[shape]
    theirs = OrdinaryKriging(
        held.x, held.y, held.values, variogram_model=shape, exact_values=False,
        variogram_parameters={"psill": 8.5, "range": reach, "nugget": 0.5},
    )  # fmt: skip
    x, y = places()
    z, s2 = theirs.execute("points", x, y)
    whole, one = Kriging(held, model), np.ones((x.size, 1))
    assert np.allclose(whole.estimates(x, y, one), np.asarray(z), atol=1e-6 if shape != "gaussian" else 0.5)
    if shape != "gaussian":  # its Gaussian has 4/7 of the range in the exponent, and is near ours only
        # The library's variance holds the nugget of a new measurement.
        assert np.allclose(whole.variances(x, y, one) + 0.5, np.asarray(s2), atol=1e-6)


def test_kriging_is_that_of_another_library():
    """gstools 1.7 (lib): ordinary and universal kriging with a Matérn model of smoothness 1.5."""
    import gstools

    held, scale = scattered(degree=1)
    structure = Structure("matern", 8.5, 200.0)
    model = Variogram(0.5, (structure,))
    x, y = places()
    theirs = gstools.Matern(dim=2, var=8.5, nugget=0.5, nu=1.5, len_scale=_matern_length(structure))
    for drift, degree in (("linear", 1), (None, 0)):
        given = {"drift_functions": drift} if drift else {}
        make = gstools.krige.Universal if drift else gstools.krige.Ordinary
        made = make(theirs, (held.x, held.y), held.values, exact=False, cond_err="nugget", **given)
        z, _ = made((x, y))
        own = Samples(held.x, held.y, held.values, drift_of(held.x, held.y, degree, scale))
        ours = Kriging(own, model).estimates(x, y, drift_of(x, y, degree, scale))
        assert np.allclose(ours, z, atol=1e-4), drift


def _matern_length(structure):
    """The length with which the library's correlation falls as ours does: theirs is a multiple of ours."""
    import gstools
    from scipy.optimize import brentq

    def off(length):
        s = 100.0 / structure.scale
        theirs = float(gstools.Matern(dim=2, var=1.0, nu=1.5, len_scale=length).correlation(100.0))
        return theirs - (1.0 + s) * np.exp(-s)

    return brentq(off, 1.0, 2000.0, xtol=1e-10)


def test_samples_that_depend_on_each_other_are_refused_in_words():
    x = np.array([0.0, 1.0, 2.0, 3.0])
    held = Samples(x, np.zeros(4), x, drift_of(x, np.zeros(4), 1, 3.0))
    with pytest.raises(MossError, match="one line"):
        Kriging(held, Variogram.single("spherical", 1.0, 10.0))


def test_a_smooth_model_without_a_nugget_is_solved_or_refused():
    """Gaussian covariances of near places are alike to all digits: the diagonal is lifted a little."""
    rng = np.random.default_rng(3)
    x, y = rng.uniform(0, 10, 300), rng.uniform(0, 10, 300)
    held = Samples(x, y, np.sin(x), np.ones((300, 1)))
    found = Kriging(held, Variogram.single("gaussian", 1.0, 12.0)).estimates(x, y, held.drift)
    assert np.abs(found - np.sin(x)).max() < 1e-2
