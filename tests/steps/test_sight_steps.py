"""Steps of sight: what is compared, hidden, raised and cut into stretches, each against NumPy, SciPy or shapely."""

import itertools
from dataclasses import replace

import numpy as np
import pytest
import shapely
from scipy import ndimage

from moss_step.model.errors import MossError
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.units import DEGREE, FOOT, METRE, UNKNOWN
from moss_step.science.sight.observer import Observer, prepare_sight
from moss_step.science.sight.viewshed import seen_by
from tests.cases import result_of
from tests.conftest import surface

PLACE, OTHER = (412_031.0, 5_871_939.0), (412_081.0, 5_871_901.0)


@pytest.fixture(scope="module")
def hills() -> Surface:
    """Rough ground of 60 x 70 cells of 2 m with a hole in it."""
    z = ndimage.gaussian_filter(np.random.default_rng(3).standard_normal((60, 70)), 4) * 120 + 300
    z[40:43, 50:54] = np.nan
    return surface(z)


def run(kind: str, inputs: dict, **settings: object):
    return result_of(kind, settings, inputs)


def view(ground: Surface, *at: tuple[float, float], **settings: object):
    return run("viewshed", {"dem": ground}, at=at, **settings)


def found(outcome, name: str, of: str | None = None):
    return next(f.value for f in outcome.findings if f.name == name and (of is None or f.of == of))


def test_gained_lost_and_unchanged_are_what_the_two_views_say(hills):
    before, after = view(hills, PLACE).value, view(hills, OTHER, observer_height=9.0).value
    made = run("compare_sight", {"before": before, "after": after})
    was, now = before.values > 0, after.values > 0
    valid = ~np.isnan(hills.values)
    for name, cells in (
        ("lost", was & ~now),
        ("gained", ~was & now),
        ("seen before and after", was & now),
        ("never seen", ~was & ~now),
    ):
        code = next(c.code for c in made.value.classes if c.name == name)
        assert np.array_equal(made.value.codes == code, cells & valid) and (cells & valid).any()
        assert found(made, "area_m2", name) == pytest.approx(4.0 * (cells & valid).sum())


def test_views_over_other_ground_are_not_compared_however_alike_their_size_is(hills):
    seen = view(hills, PLACE).value
    elsewhere = replace(seen, frame=replace(seen.frame, x0=seen.frame.x0 + 100.0))
    with pytest.raises(MossError, match="do not lie cell on cell"):
        run("compare_sight", {"before": seen, "after": elsewhere})


def test_blind_patches_are_the_connected_ground_that_nobody_sees(hills):
    seen = view(hills, PLACE).value
    made = run("blind_patches", {"seen": seen}, least_cells=5)
    labels, count = ndimage.label(seen.values == 0, np.ones((3, 3)))
    sizes = np.sort(np.bincount(labels.ravel())[1 : count + 1])[::-1]
    sizes = sizes[sizes >= 5]
    assert made.value.columns["area_m2"].tolist() == pytest.approx((4.0 * sizes).tolist())
    assert found(made, "largest") == 4.0 * sizes[0]
    assert shapely.area(made.value.geometry).sum() == pytest.approx(4.0 * sizes.sum())


def test_where_all_is_seen_there_is_no_blind_patch_and_it_is_said():
    seen = view(surface(np.zeros((20, 20))), (412_021.0, 5_871_981.0)).value
    assert (seen.values == 1).all()
    with pytest.raises(MossError):
        run("blind_patches", {"seen": seen})


def test_a_target_as_high_as_the_mast_height_is_just_seen(hills):
    need = run("mast_height", {"dem": hills}, at=(PLACE,), observer_height=2.0).value.values
    sight, hidden = prepare_sight(hills), np.argwhere(need > 0.5)
    assert len(hidden) > 200
    for row, col in hidden[:: len(hidden) // 40]:
        for over, expected in ((1e-3, 1), (-1e-3, 0)):
            seen = seen_by(sight, Observer(*PLACE, height=2.0, target=float(need[row, col]) + over))
            assert seen[row, col] == expected


def test_heights_in_feet_are_converted_and_what_is_no_height_is_refused(hills):
    in_feet = Surface(hills.values / np.float32(0.3048), hills.frame, FOOT)
    trees = Surface(
        np.where(np.arange(70) == 45, hills.values + 15.0, hills.values).astype(np.float32),
        hills.frame,
        METRE,
    )
    trees_in_feet = Surface(trees.values / np.float32(0.3048), hills.frame, FOOT)
    expected = run(
        "viewshed", {"dem": hills, "obstacles": trees}, at=(PLACE,), observer_height=6.0
    ).value.values
    assert (expected != view(hills, PLACE, observer_height=6.0).value.values).any(), (
        "the trees hide something"
    )
    for ground, top in ((hills, trees_in_feet), (in_feet, trees), (in_feet, trees_in_feet)):
        made = run(
            "viewshed", {"dem": ground, "obstacles": top}, at=(PLACE,), observer_height=6.0
        ).value.values
        assert np.mean(made[~np.isnan(made)] == expected[~np.isnan(made)]) > 0.999, (
            "a cell that is just seen may round to the other side"
        )
    assert np.array_equal(
        view(Surface(hills.values, hills.frame, UNKNOWN), PLACE).value.values,
        view(hills, PLACE).value.values,
        equal_nan=True,
    )
    slopes = Surface(hills.values, hills.frame, DEGREE)
    for inputs in ({"dem": slopes}, {"dem": hills, "obstacles": slopes}):
        with pytest.raises(MossError, match="needs heights"):
            run("viewshed", inputs, at=(PLACE,))


def test_stretches_are_the_line_cut_where_it_is_seen_and_hidden(hills):
    line, way = (*PLACE, 412_131.0, 5_871_945.0), {"observer_height": 3.0}
    table = run("sight_line", {"dem": hills}, ends=line, **way)
    made = run("sight_line.stretches", {"dem": hills}, ends=line, **way)
    states, lengths = made.value.columns["state"], made.value.columns["length_m"]
    assert len(states) >= 3 and all(a != b for a, b in itertools.pairwise(states)), (
        "seen and hidden alternate"
    )
    assert lengths.sum() == pytest.approx(found(table, "length")) == pytest.approx(np.hypot(100.0, 6.0))
    assert shapely.length(made.value.geometry).tolist() == pytest.approx(lengths.tolist(), rel=1e-6)
    share = lengths[states == "seen"].sum() / lengths.sum()
    assert share == pytest.approx(found(table, "share_seen"), abs=0.03)
    blocked = found(made, "first_obstacle_at")
    assert 0 < blocked < found(made, "length") and found(made, "visible") == 0.0


def test_a_second_surface_that_lies_elsewhere_is_refused_with_shapes_too(hills):
    wall = Shapes(
        np.array([shapely.LineString([(412_050, 5_871_900), (412_052, 5_871_980)])], object),
        {},
        hills.frame.crs,
    )
    moved = replace(hills, frame=replace(hills.frame, x0=hills.frame.x0 + 100.0))
    smaller = surface(hills.values[:-5])
    for elsewhere in (moved, smaller):
        with pytest.raises(MossError, match="obstacles and the ground do not lie cell on cell"):
            run("viewshed", {"dem": hills, "obstacles": elsewhere, "barriers": wall}, at=(PLACE,))


def test_weights_of_water_that_lie_elsewhere_are_refused():
    ground = surface(np.add.outer(np.arange(12.0), np.zeros(15)))
    moved = replace(ground, frame=replace(ground.frame, x0=ground.frame.x0 + 100.0))
    with pytest.raises(MossError, match="weights and the ground do not lie cell on cell"):
        run("flow_accumulation", {"dem": ground, "weights": moved})
