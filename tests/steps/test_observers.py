"""Observers as steps read them: values of their own, files, what is switched off, and what stands in the way."""

import itertools
import math

import numpy as np
import pytest
import shapely
from hypothesis import given
from hypothesis import strategies as st

from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.frame import Frame
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.units import METRE, NONE
from moss_step.science.sight.observer import Observer, prepare_sight
from moss_step.science.sight.obstacles import with_shapes
from moss_step.science.sight.viewshed import seen_by, seen_fast
from moss_step.steps.observers import (
    OWN_WORDS,
    SightSettings,
    all_observers,
    blocking,
    observers_of,
    own_text,
    own_values,
)
from tests.cases import result_of
from tests.conftest import plane, surface

AT = ((412_011.0, 5_871_989.0), (412_031.0, 5_871_981.0), (412_021.0, 5_871_971.0))
PLAIN = st.floats(-1e6, 1e6, allow_nan=False).map(lambda v: float(f"{v:g}"))
NAMES = (
    st.text("abcdefghij klmnoprst", min_size=1, max_size=12).map(str.strip).filter(lambda n: n and n != "off")
)
OWN = st.fixed_dictionaries(
    {}, optional={"name": NAMES, "off": st.just(1.0), **{w: PLAIN for w in OWN_WORDS if w != "name"}}
)


@given(st.dictionaries(st.integers(1, 10_000), OWN.filter(bool), max_size=6))
def test_own_values_are_read_as_they_are_written(own):
    assert own_values(own_text(own)) == own


@pytest.mark.parametrize(
    "text",
    [
        "2",
        "two: off",
        "2:",
        "2: height",
        "2: height=tall",
        "2: height=nan",
        "2: reach=inf",
        "2: colour=red",
        "2: name=",
        "-1: off",
        ": off",
    ],
)
def test_own_values_that_make_no_sense_are_refused_and_named(text):
    with pytest.raises(ValueError, match="such as 2: height=20|with a value, or off"):
        own_values(text)


def test_no_own_values_are_none():
    assert own_values(None) == own_values("") == own_values(" ; ") == {}
    assert own_text({3: {}}) == ""


def test_own_values_stand_over_the_shared_ones_and_off_leaves_out():
    dem = plane(40, 40, 0.0, 0.0)
    settings = SightSettings(
        at=AT, observer_height=5.0, reach=300.0, own="1: name=North, height=20, reach=60; 3: off"
    )
    found = observers_of(settings, {"dem": dem}, dem.frame)
    assert [o.name for o in found] == ["North", "observer 2"]
    assert [o.height for o in found] == [20.0, 5.0] and [o.reach for o in found] == [60.0, 300.0]
    assert len(all_observers(settings, {"dem": dem}, dem.frame)) == 3, (
        "the table lists those that are off too"
    )


def test_an_own_value_for_nobody_and_nobody_left_are_refused():
    dem = plane(40, 40, 0.0, 0.0)
    with pytest.raises(AskedWronglyError, match="no observer 4") as caught:
        observers_of(SightSettings(at=AT, own="4: off"), {"dem": dem}, dem.frame)
    assert "1 to 3" in caught.value.do
    for settings in (SightSettings(), SightSettings(at=AT[:1], own="1: off")):
        with pytest.raises(AskedWronglyError, match="There is no observer"):
            observers_of(settings, {"dem": dem}, dem.frame)


def test_columns_of_a_file_are_its_own_and_the_table_stands_over_them():
    dem = plane(40, 40, 0.0, 0.0)
    points = np.array([shapely.Point(p) for p in AT], object)
    shapes = Shapes(
        points,
        {
            "name": np.array(["A", "B", "C"], object),
            "Height": np.array([3.0, np.nan, 9.0]),
            "reach": np.array([50, 60, 70]),
        },
        dem.frame.crs,
    )
    found = observers_of(
        SightSettings(observer_height=1.5, own="3: height=12"), {"dem": dem, "observers": shapes}, dem.frame
    )
    assert [(o.name, o.height, o.reach) for o in found] == [
        ("A", 3.0, 50.0),
        ("B", 1.5, 60.0),
        ("C", 12.0, 70.0),
    ]


def test_a_line_becomes_points_that_have_the_shared_values():
    dem = plane(40, 40, 0.0, 0.0)
    line = Shapes(np.array([shapely.LineString([AT[0], AT[1]])], object), {}, dem.frame.crs)
    found = observers_of(SightSettings(observer_height=3.0), {"dem": dem, "observers": line}, dem.frame)
    assert len(found) >= 3 and {o.height for o in found} == {3.0}
    gaps = [math.hypot(a.x - b.x, a.y - b.y) for a, b in itertools.pairwise(found)]
    assert max(gaps) <= 4.0 * dem.frame.dx + 1e-9
    assert (found[0].x, found[0].y) == AT[0] and (found[-1].x, found[-1].y) == AT[1]


def box_at(dem, row: int, col: int, rows: int = 1, cols: int = 1) -> shapely.Geometry:
    f = dem.frame
    left, top = f.x0 + col * f.dx, f.y0 - row * f.dy
    return shapely.box(left, top - rows * f.dy, left + cols * f.dx, top)


def test_a_wall_drawn_as_a_line_hides_what_a_wall_of_cells_hides():
    """The same wall as shapes and as a second surface: one and the same view."""
    dem = surface(np.zeros((41, 61)))
    x = dem.frame.x_of(20)
    line = shapely.LineString([(x, dem.frame.y_of(0)), (x, dem.frame.y_of(40))])
    shapes = Shapes(np.array([line], object), {}, dem.frame.crs)
    as_shapes = with_shapes(dem, None, shapes, np.array([6.0]))
    walls = np.zeros((41, 61))
    walls[:, 20] = 6.0
    assert np.array_equal(as_shapes.values, walls)
    observer = Observer(dem.frame.x_of(5), dem.frame.y_of(20), height=2.0)
    seen = seen_by(prepare_sight(dem, as_shapes), observer)
    assert np.array_equal(seen, seen_by(prepare_sight(dem, surface(walls)), observer))
    assert (seen[20, 21:] == 0).all() and (seen[20, :20] == 1).all()


def test_areas_cover_cells_by_centre_and_the_highest_counts_where_shapes_overlap():
    dem = plane(20, 20, 0.1, 0.0)
    f = dem.frame
    wood, house = box_at(dem, 5, 5, 6, 6), box_at(dem, 7, 7, 2, 2)
    corner = shapely.box(f.x0 + 15 * f.dx, f.y0 - 16 * f.dy, f.x0 + 15.4 * f.dx, f.y0 - 15.6 * f.dy)
    for order in ((0, 1, 2), (2, 1, 0)):
        geometry, heights = (
            np.array([wood, house, corner], object)[list(order)],
            np.array([4.0, 9.0, 50.0])[list(order)],
        )
        top = with_shapes(dem, None, Shapes(geometry, {}, f.crs), heights)
        raised = top.values - dem.values
        assert np.allclose(raised[5:11, 5:11][[0, -1]], 4.0, atol=1e-4) and np.allclose(
            raised[7:9, 7:9], 9.0, atol=1e-4
        )
        assert np.isclose(raised, 0.0, atol=1e-4).sum() == 400 - 36, (
            "an area that holds no centre covers no cell"
        )


def test_a_second_surface_and_shapes_block_together():
    dem = surface(np.zeros((20, 20)))
    trees = np.zeros((20, 20))
    trees[3, 3] = 12.0
    shapes = Shapes(np.array([box_at(dem, 3, 3), box_at(dem, 9, 9)], object), {}, dem.frame.crs)
    top = with_shapes(dem, surface(trees), shapes, np.array([5.0, 5.0])).values
    assert top[3, 3] == 12.0 and top[9, 9] == 5.0 and top.sum() == 17.0


def test_shapes_without_a_height_of_their_own_take_the_shared_one():
    dem = surface(np.zeros((20, 20)))
    geometry = np.array([box_at(dem, 2, 2), box_at(dem, 9, 9)], object)
    own = Shapes(geometry, {"height": np.array([3.0, np.nan])}, dem.frame.crs)
    top = blocking(7.0, {"dem": dem, "barriers": own})
    assert top is not None and top.values[2, 2] == 3.0 and top.values[9, 9] == 7.0
    none = blocking(7.0, {"dem": dem, "barriers": Shapes(geometry, {}, dem.frame.crs)})
    assert none is not None and none.values[2, 2] == none.values[9, 9] == 7.0
    assert blocking(7.0, {"dem": dem}) is None


@pytest.mark.parametrize("height", [-1.0, math.inf, math.nan])
def test_shapes_of_an_impossible_height_are_refused(height):
    dem = surface(np.zeros((20, 20)))
    shapes = Shapes(np.array([box_at(dem, 2, 2)], object), {}, dem.frame.crs)
    with pytest.raises(MossError, match="no height, or one below 0"):
        with_shapes(dem, None, shapes, np.array([height]))


def outcome_of(kind: str, settings: dict, **inputs):
    return result_of(kind, settings, inputs)


def hilly():
    return surface(
        (np.random.default_rng(14).normal(size=(60, 70)).cumsum(0).cumsum(1) * 0.3).astype(np.float32)
    )


def test_a_weight_is_shared_out_by_observer_and_by_count():
    """People per cell, counted by NumPy over single views."""
    dem, people = hilly(), np.random.default_rng(3).integers(0, 5, (60, 70)).astype(np.float32)
    people[2, 3] = np.nan
    at = [(dem.frame.x_of(c), dem.frame.y_of(r)) for r, c in ((12, 15), (40, 50))]
    outcome = outcome_of(
        "viewshed",
        {"at": at, "observer_height": 6.0},
        dem=dem,
        weights=Surface(people, dem.frame, NONE, "value"),
    )
    found = {(f.of, f.name): f.value for f in outcome.findings}
    sight = prepare_sight(dem)
    views = [seen_by(sight, Observer(x, y, height=6.0)) == 1 for x, y in at]
    total = np.nansum(people)
    for k, view in enumerate(views, start=1):
        assert found[f"observer {k}", "weight"] == np.nansum(people[view])
        assert found[f"observer {k}", "weight_share"] == pytest.approx(np.nansum(people[view]) / total)
    both = np.sum(views, axis=0)
    for k in range(3):
        if (both == k).any():
            assert found[f"seen by {k}", "weight"] == np.nansum(people[both == k])
    assert found["", "seen_weight_share"] == pytest.approx(np.nansum(people[both > 0]) / total)


def test_weights_that_lie_elsewhere_are_refused():
    dem = hilly()
    other = surface(np.ones((60, 70)), dx=5.0)
    with pytest.raises(MossError, match="do not lie cell on cell"):
        outcome_of("viewshed", {"at": [(dem.frame.x_of(5), dem.frame.y_of(5))]}, dem=dem, weights=other)


def test_the_horizon_on_the_ground_is_the_line_through_the_table_of_the_horizon():
    dem = hilly()
    at = {"at": [(dem.frame.x_of(35), dem.frame.y_of(30))], "observer_height": 4.0, "bearings": 180}
    table, line = outcome_of("horizon", at, dem=dem).value, outcome_of("horizon.skyline", at, dem=dem).value
    assert len(line) == 1 and line.geometry[0].is_closed
    xy = shapely.get_coordinates(line.geometry[0])
    assert np.allclose(xy[:-1, 0], table.columns["x"]) and np.allclose(xy[:-1, 1], table.columns["y"])
    assert line.columns["highest"][0] == pytest.approx(table.columns["angle"].max())


def test_a_horizon_with_gaps_is_one_line_for_each_stretch():
    """At the western edge there is no ground to the west: one stretch from north over east to south."""
    dem = hilly()
    at = {"at": [(dem.frame.x_of(0), dem.frame.y_of(30))], "observer_height": 4.0, "bearings": 360}
    table, line = outcome_of("horizon", at, dem=dem).value, outcome_of("horizon.skyline", at, dem=dem).value
    known = int(np.isfinite(table.columns["angle"]).sum())
    assert 150 <= known <= 185 and len(line) == 1 and not line.geometry[0].is_closed
    assert len(shapely.get_coordinates(line.geometry[0])) == known


def test_the_area_that_each_observer_sees_counts_cells_of_their_true_size():
    """On a grid in degrees rows differ in area: the areas of single observers add up row by row (pyproj by way of the frame)."""
    z = np.random.default_rng(6).normal(size=(80, 60)).cumsum(0).cumsum(1).astype(np.float32) * 0.3
    frame = Frame(80, 60, 10.0, 66.0, 0.05, 0.05, "EPSG:4326")
    dem = Surface(z, frame, METRE)
    at = [(frame.x_of(30), frame.y_of(70))]
    outcome = outcome_of("viewshed", {"at": at, "observer_height": 500.0}, dem=dem)
    found = {(f.of, f.name): f.value for f in outcome.findings}
    seen = outcome.value.values == 1
    by_rows = float((seen.sum(axis=1) * frame.row_areas).sum())
    assert (
        found["observer 1", "area_m2"] == pytest.approx(by_rows) == pytest.approx(found["", "seen_area_m2"])
    )
    assert abs(by_rows / (seen.sum() * frame.area / z.size) - 1) > 0.01, (
        "a mean size of the cells would be wrong here"
    )


@pytest.mark.parametrize(("wide", "high"), [(2.0, 5.0), (5.0, 2.0), (2.0, 2.0)])
def test_the_preview_keeps_to_the_reach_on_cells_of_any_shape(wide, high):
    """Asked for are just the cells within the reach and beyond the nearest distance (NumPy's distances)."""
    dem = surface(np.zeros((60, 70)), dx=wide, dy=high)
    observer = Observer(dem.frame.x_of(30), dem.frame.y_of(25), height=3.0, reach=41.0, near=9.0)
    seen = seen_fast(prepare_sight(dem), observer)
    r, c = np.mgrid[0:60, 0:70]
    d = np.hypot((c - 30) * wide, (r - 25) * high)
    assert np.array_equal(seen != 2, (d <= 41.0) & (d >= 9.0))
    exact = seen_by(prepare_sight(dem), observer)
    assert np.array_equal(seen, exact), "level ground within three metres of the eye is all seen"
