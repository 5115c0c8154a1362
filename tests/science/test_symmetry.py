"""What must not depend on how a ground lies: turned, mirrored, raised, in other units, in a larger grid, in another order of rows.

Facts of geometry: a measure of a mirrored ground is the mirrored measure, a raised ground is as steep as before.
"""

from collections.abc import Callable

import numpy as np
import pytest
from numpy.testing import assert_allclose

from moss_step.model.frame import Frame
from moss_step.model.surface import Surface
from moss_step.model.units import CENTIMETRE, FOOT, METRE
from moss_step.science.relief.contours import contours
from moss_step.science.relief.curvature import curvature
from moss_step.science.relief.gradient import aspect, hillshade, slope
from moss_step.science.relief.hypsometry import hypsometry
from moss_step.science.relief.neighbourhood import roughness, ruggedness
from moss_step.science.relief.openness import openness
from moss_step.science.relief.position import local_relief, position
from moss_step.science.sight.heights import mast_heights
from moss_step.science.sight.observer import Observer, prepare_sight
from moss_step.science.sight.viewshed import seen_by
from moss_step.science.water import indices
from moss_step.science.water.drainage import accumulated, prepare
from tests.conftest import UTM, surface

rng = np.random.default_rng(21)
ROUGH = (rng.normal(size=(40, 40)).cumsum(0).cumsum(1) * 0.4 + rng.normal(size=(40, 40)) * 0.3).astype(
    np.float32
)
HOLED = ROUGH.copy()
HOLED[rng.random(HOLED.shape) < 0.02] = np.nan

Measure = Callable[[Surface], np.ndarray]
MEASURES: dict[str, Measure] = {
    "slope": lambda s: slope(s).values,
    "slope in percent": lambda s: slope(s, "percent").values,
    "slope of a fit": lambda s: slope(s, method="quadratic").values,
    "profile curvature": lambda s: curvature(s, "profile").values,
    "plan curvature": lambda s: curvature(s, "plan").values,
    "tangential curvature": lambda s: curvature(s, "tangential").values,
    "mean curvature": lambda s: curvature(s, "mean").values,
    "ruggedness": lambda s: ruggedness(s).values,
    "mean difference": lambda s: ruggedness(s, "mean_absolute").values,
    "roughness": lambda s: roughness(s).values,
    "position": lambda s: position(s, 8.0).values,
    "position in a ring": lambda s: position(s, 12.0, "ring", 5.0).values,
    "local relief": lambda s: local_relief(s, 6.0).values,
    "openness": lambda s: openness(s, 30.0).values,
    "negative openness": lambda s: openness(s, 30.0, positive=False).values,
    "filled ground": lambda s: prepare(s).filled(),
    "height to be seen": lambda s: mast_heights(prepare_sight(s), [Observer(*middle(s), height=3.0)]).values,
}  # fmt: skip
FLIPS: dict[str, Callable[[np.ndarray], np.ndarray]] = {
    "mirrored east to west": lambda z: z[:, ::-1],
    "mirrored north to south": lambda z: z[::-1],
    "turned by a quarter": lambda z: np.rot90(z),
    "turned by a half": lambda z: np.rot90(z, 2),
    "turned over": lambda z: z.T,
}


def middle(dem: Surface) -> tuple[float, float]:
    """A place at the corner of the four middle cells: the same one however the ground is turned, to the nearest cell."""
    return dem.frame.x_of(dem.frame.cols // 2), dem.frame.y_of(dem.frame.rows // 2)


def odd(z: np.ndarray) -> np.ndarray:
    """An odd number of cells each way, so that the middle stays the middle."""
    return np.ascontiguousarray(z[:39, :39])


@pytest.mark.parametrize("holes", [False, True], ids=["whole", "with no-data"])
@pytest.mark.parametrize("flip", sorted(FLIPS))
@pytest.mark.parametrize("measure", sorted(MEASURES))
def test_a_measure_turns_with_the_ground(measure, flip, holes):
    z, turn = odd(HOLED if holes else ROUGH), FLIPS[flip]
    if measure == "height to be seen":
        z[19, 19] = 1.0
    made, turned = MEASURES[measure](surface(z)), MEASURES[measure](surface(turn(z).copy()))
    assert_allclose(turned, turn(made), rtol=2e-3, atol=2e-3 * max(1.0, float(np.nanstd(made))))


@pytest.mark.parametrize("measure", sorted(MEASURES))
def test_a_raised_ground_measures_the_same(measure):
    low, high = (
        MEASURES[measure](surface(odd(ROUGH))),
        MEASURES[measure](surface(odd(ROUGH) + np.float32(512.0))),
    )
    assert_allclose(
        high - (512.0 if measure == "filled ground" else 0.0),
        low,
        rtol=5e-3,
        atol=5e-3 * max(1.0, float(np.nanstd(low))),
    )


@pytest.mark.parametrize("unit", [FOOT, CENTIMETRE], ids=lambda u: u.key)
@pytest.mark.parametrize(
    "measure",
    ["slope", "slope in percent", "profile curvature", "mean curvature", "openness", "height to be seen"],
)
def test_the_unit_of_the_heights_makes_no_difference_to_angles_and_metres(measure, unit):
    """Heights in feet or centimetres are the same ground (a foot is 0.3048 m by definition)."""
    dem = surface(odd(ROUGH))
    other = Surface((dem.values / np.float32(unit.factor)).astype(np.float32), dem.frame, unit)
    assert_allclose(MEASURES[measure](other), MEASURES[measure](dem), rtol=5e-3, atol=5e-3)
    assert dem.unit == METRE


@pytest.mark.parametrize("measure", ["slope", "profile curvature", "ruggedness", "position", "openness"])
def test_a_part_of_a_ground_measures_as_in_the_whole(measure):
    """Beyond the reach of the edge the rest of the ground makes no difference."""
    whole, part = MEASURES[measure](surface(ROUGH)), MEASURES[measure](surface(ROUGH[5:38, 3:37].copy()))
    reach = {"openness": 15, "position": 5}.get(measure, 1)
    inner = slice(reach, -reach)
    assert_allclose(part[inner, inner], whole[5:38, 3:37][inner, inner], rtol=1e-3, atol=1e-3)


@pytest.mark.parametrize(("flip", "turned"), [("mirrored east to west", lambda a: (360.0 - a) % 360.0), ("mirrored north to south", lambda a: (540.0 - a) % 360.0),
                                              ("turned by a half", lambda a: (a + 180.0) % 360.0), ("turned by a quarter", lambda a: (a + 270.0) % 360.0)])  # fmt: skip
def test_aspect_turns_as_a_bearing(flip, turned):
    """A quarter turn against the clock takes 90 degrees off each bearing."""
    made, other = aspect(surface(ROUGH)).values, aspect(surface(FLIPS[flip](ROUGH).copy())).values
    difference = np.abs(other - turned(FLIPS[flip](made)))
    assert (np.minimum(difference, 360.0 - difference) < 0.05).all()


def test_a_shade_turns_with_ground_and_lamp():
    lit = hillshade(surface(ROUGH), 300.0, 40.0).values
    assert_allclose(hillshade(surface(np.rot90(ROUGH).copy()), 210.0, 40.0).values, np.rot90(lit), atol=0.1)
    assert_allclose(hillshade(surface(ROUGH[:, ::-1].copy()), 60.0, 40.0).values, lit[:, ::-1], atol=0.1)


@pytest.mark.parametrize("method", ["d8", "freeman", "dinf"])
def test_water_gathers_as_much_on_a_turned_ground(method):
    """Without level ground, whose ways depend on an order, each cell has as much upstream."""
    made = accumulated(prepare(surface(ROUGH * 7.0)), method).values
    for turn in FLIPS.values():
        other = accumulated(prepare(surface(turn(ROUGH * 7.0).copy())), method).values
        assert np.nansum(other) == pytest.approx(np.nansum(made), rel=0.02)
        assert np.sort(other.ravel())[-5:] == pytest.approx(np.sort(made.ravel())[-5:], rel=0.05)


def test_wetness_falls_with_steepness_and_rises_with_area():
    """ln(a / tan b): twice as steep is ln 2 less where nothing else changes."""
    z = np.add.outer(np.arange(40.0), np.zeros(40))
    gentle, steep = (indices.wetness(prepare(surface(z * k)), "d8").values[5:-5, 5:-5] for k in (1.0, 2.0))
    assert_allclose(gentle - steep, np.log(2.0), rtol=1e-4)


@pytest.mark.parametrize("flip", sorted(FLIPS))
def test_what_is_seen_turns_with_the_ground(flip):
    z = odd(ROUGH)
    z[19, 19] = z.max() - 2.0
    seen = seen_by(prepare_sight(surface(z)), Observer(*middle(surface(z)), height=2.0, target=1.0))
    turned = surface(FLIPS[flip](z).copy())
    other = seen_by(prepare_sight(turned), Observer(*middle(turned), height=2.0, target=1.0))
    assert (other == FLIPS[flip](seen)).mean() > 0.999, "to ties in the last digit"


def test_a_hypsometric_curve_knows_nothing_of_places():
    curve, integral = hypsometry(surface(ROUGH))
    mixed = rng.permutation(ROUGH.ravel()).reshape(ROUGH.shape)
    other, again = hypsometry(surface(mixed))
    assert again == pytest.approx(integral) and all(
        np.allclose(curve.columns[n], other.columns[n]) for n in curve.columns
    )
    upside, less = hypsometry(surface(-ROUGH))
    assert less == pytest.approx(1.0 - integral, abs=1e-5) and len(upside) == len(curve)


def test_contours_of_a_mirrored_ground_are_as_long():
    made = contours(surface(ROUGH), 2.0)
    for flip in FLIPS.values():
        other = contours(surface(flip(ROUGH).copy()), 2.0)
        assert sorted(set(other.columns["elevation"])) == sorted(set(made.columns["elevation"]))
        assert other.columns["length_m"].sum() == pytest.approx(made.columns["length_m"].sum(), rel=1e-4)


def test_a_grid_in_degrees_is_measured_in_metres():
    """The same plane on a small grid in degrees and on one in metres of the cells' true size: the same slope (ellipsoidal arcs)."""
    degrees = Frame(30, 30, -3.0, 57.0, 0.0005, 0.0005, "EPSG:4326")
    wide, high = degrees.cell_metres
    z = (np.arange(30) * wide * 0.2 - np.arange(30)[:, None] * high * 0.1).astype(np.float32)
    metres = Frame(30, 30, 412_000.0, 5_872_000.0, wide, high, UTM)
    for measure in ("slope", "ruggedness", "mean curvature"):
        one, other = (MEASURES[measure](Surface(z, f, METRE))[2:-2, 2:-2] for f in (degrees, metres))
        assert_allclose(one, other, rtol=2e-3, atol=2e-3), measure
