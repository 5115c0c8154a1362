"""Bearings go around: 350 and 10 give 0, wherever several of them become one (Mardia & Jupp 2000; mathematics)."""

import numpy as np
import pytest
import shapely
from scipy.stats import circmean, circstd

from moss_step.model.class_map import ClassEntry, ClassMap
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.progress import silent
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.units import ANGLE, BEARING, METRE
from moss_step.science.algebra.arithmetic import converted, difference, exaggerated
from moss_step.science.algebra.bearings import mean_bearing
from moss_step.science.algebra.formula import FormulaError, evaluate
from moss_step.science.algebra.voids import fill_voids
from moss_step.science.regrid import carry_over
from moss_step.science.relief.profile import profile
from moss_step.science.zones.outlines import patches
from moss_step.science.zones.statistics import zone_statistics
from moss_step.steps.catalogue import catalogue
from moss_step.steps.results import surface_outcome
from moss_step.study.declared import run_declared
from tests.conftest import UTM, surface


def aspects(values: object) -> Surface:
    made = surface(values)
    return Surface(made.values, made.frame, BEARING, "aspect")


NORTH = aspects(np.tile([[350.0, 10.0], [10.0, 350.0]], (4, 6)))
RANDOM = aspects(np.random.default_rng(3).normal(0.0, 40.0, (30, 30)) % 360.0)


def around(a: float, b: float) -> float:
    return abs((a - b + 180.0) % 360.0 - 180.0)


def boxes(ground: Surface) -> Shapes:
    xmin, ymin, xmax, ymax = ground.frame.box
    middle = (xmin + xmax) / 2
    return Shapes(
        np.array([shapely.box(xmin, ymin, middle, ymax), shapely.box(middle, ymin, xmax, ymax)], object),
        {},
        UTM,
    )


@pytest.mark.parametrize("resampling", ["bilinear", "cubic", "average"])
def test_coarser_cells_face_where_their_cells_face_together(resampling):
    made = carry_over(NORTH, UTM, 4.0, resampling)
    assert made.cyclic and max(around(v, 0.0) for v in made.values.ravel()) < 1.0


def test_flat_ground_does_not_turn_its_neighbours():
    mixed = aspects([[350.0, 10.0], [-1.0, -1.0]])
    assert around(carry_over(mixed, UTM, 4.0, "average").values[0, 0], 0.0) < 1e-3
    assert carry_over(aspects([[-1.0, -1.0], [-1.0, -1.0]]), UTM, 4.0, "average").values[0, 0] == -1.0


@pytest.mark.parametrize("weighting", ["centre", "coverage"])
def test_the_mean_and_spread_of_a_zone_go_around(weighting):
    """scipy.stats.circmean and circstd over the same cells (general library)."""
    found = zone_statistics(boxes(RANDOM), RANDOM, ["mean", "std", "count"], weighting)
    for k, half in enumerate((RANDOM.values[:, :15], RANDOM.values[:, 15:])):
        turned = np.radians(half.astype(np.float64))
        assert around(found["mean"][k], np.degrees(circmean(turned))) < 1e-3
        assert found["std"][k] == pytest.approx(np.degrees(circstd(turned)), rel=1e-4)
        assert found["count"][k] == half.size


@pytest.mark.parametrize("statistic", ["min", "max", "median", "range", "sum", "p10"])
def test_what_bearings_do_not_have_is_refused(statistic):
    with pytest.raises(AskedWronglyError, match=f"Bearings have no {statistic}"):
        zone_statistics(boxes(NORTH), NORTH, [statistic])


def test_overlapping_zones_and_patches_take_the_mean_direction():
    xmin, ymin, xmax, ymax = NORTH.frame.box
    twice = Shapes(
        np.array([shapely.box(xmin, ymin, xmax, ymax), shapely.box(xmin, ymin, xmax - 8, ymax)], object),
        {},
        UTM,
    )
    assert max(around(v, 0.0) for v in zone_statistics(twice, NORTH, ["mean"])["mean"]) < 1e-3
    classes = ClassMap(np.zeros(NORTH.frame.shape, np.uint8), NORTH.frame, (ClassEntry(0, "all", "#CAD39B"),))
    made = patches(classes, 8, 1, NORTH)
    assert around(made.columns["mean"][0], 0.0) < 1e-3 and "lowest" not in made.columns


def test_a_void_between_350_and_10_is_filled_with_north():
    holed = NORTH.values.copy()
    holed[:, :5], holed[:, 6:] = 350.0, 10.0
    holed[4, 5] = np.nan
    holed[3, 5], holed[5, 5] = 0.0, 0.0
    made, voids = fill_voids(aspects(holed), 4)
    assert len(voids.first) == 1 and around(made.values[4, 5], 0.0) < 1e-3


def test_the_difference_of_bearings_is_the_short_turn():
    made, _ = difference(aspects([[350.0, 10.0, 90.0, -1.0]]), aspects([[10.0, 350.0, 270.0, 5.0]]))
    assert (
        made.values[0, :2].tolist() == [-20.0, 20.0]
        and abs(made.values[0, 2]) == 180.0
        and np.isnan(made.values[0, 3])
    )
    assert made.unit == ANGLE and not made.cyclic
    with pytest.raises(MossError, match="no ratio"):
        difference(NORTH, NORTH, "ratio")
    with pytest.raises(MossError, match="holds bearings"):
        difference(NORTH, surface(NORTH.values, unit=METRE))


@pytest.mark.parametrize(
    "text",
    [
        "(a + b) / 2",
        "a * 2",
        "a - 90",
        "-a",
        "min(a, b)",
        "a % 180",
        "abs(a)",
        "a ** 2",
        "sin(a)",
        "max(a, 3)",
        "a / b",
        "a // 2",
    ],
)
def test_bearings_are_not_worked_with_as_numbers(text):
    with pytest.raises(FormulaError, match=r"Bearings cannot|takes radians"):
        evaluate(text, {"a": NORTH, "b": NORTH})


def test_formulas_ask_bearings_what_they_can_answer():
    a = aspects([[350.0, 10.0, 100.0, -1.0]])
    assert evaluate("away(a, 355) < 20", {"a": a}).values[0, :3].tolist() == [1.0, 1.0, 0.0]
    assert evaluate("away(a, 0)", {"a": a}).values[0, :3].tolist() == [10.0, 10.0, 100.0]
    assert (
        np.isnan(evaluate("away(a, 0)", {"a": a}).values[0, 3])
        and evaluate("away(a, 0)", {"a": a}).unit == ANGLE
    )
    assert evaluate("a > 315 or a < 45", {"a": a}).values[0].tolist() == [1.0, 1.0, 0.0, 1.0]
    assert evaluate("cos(radians(a))", {"a": a}).values[0, 0] == pytest.approx(
        np.cos(np.radians(350.0)), abs=1e-6
    )
    assert evaluate("where(a < 0, 0, a)", {"a": a}).unit == BEARING
    with pytest.raises(FormulaError, match="away takes bearings"):
        evaluate("away(a, b)", {"a": a, "b": surface([[1.0, 2.0, 3.0, 4.0]])})


def test_figures_of_bearings_go_around():
    found = {f.name: f.value for f in surface_outcome(NORTH).findings}
    assert around(found["mean"], 0.0) < 1e-3 and "lowest" not in found
    assert np.isnan(mean_bearing(np.array([0.0, 180.0])))
    with pytest.raises(MossError, match="cannot be converted"):
        converted(NORTH, METRE)
    with pytest.raises(MossError, match="needs heights"):
        exaggerated(NORTH, 2.0)
    table = profile({"value": NORTH}, shapely.LineString([(412_001, 5_871_999), (412_020, 5_871_999)]), 1.0)
    assert set(np.unique(table.columns["value"])) <= {350.0, 10.0}, "read off the nearest cell"


def test_bearings_are_not_weighed():
    weigh = catalogue()["weigh"]
    with pytest.raises(AskedWronglyError, match="holds bearings"):
        run_declared(weigh, {"weights": "1,1"}, {"a": NORTH, "b": NORTH}, silent())


def test_aspects_and_flow_say_which_north():
    from tests.grounds import metric, relief

    for kind in ("aspect", "flow_directions"):
        outcome = run_declared(catalogue()[kind], {}, {"dem": metric(relief(2))}, silent())
        assert any("grid's north" in w for w in outcome.warnings)
