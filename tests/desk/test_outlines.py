"""Outlines of many shapes: what is drawn at each level of detail, against shapely on the same shapes."""

import numpy as np
import pytest
import shapely
from PySide6.QtCore import QPointF

from moss_step.desk.plan.paths import path_of_parts
from moss_step.scene.detail import Detail


def coast(points: int, seed: int = 1) -> shapely.LineString:
    steps = np.random.default_rng(seed).normal(size=(points, 2)).cumsum(axis=0)
    return shapely.LineString(steps)


@pytest.fixture(scope="module")
def coasts() -> np.ndarray:
    return np.array([coast(9_000, 1), coast(4_000, 2), coast(30, 3)], object)


def test_the_finest_level_holds_every_point(coasts):
    finest = Detail(coasts).at(0.0)
    assert np.array_equal(finest.xy, shapely.get_coordinates(coasts))
    assert finest.points_of(np.ones(3, bool)) == 13_030 and finest.detail == 0.0
    assert np.array_equal(finest.boxes, shapely.bounds(coasts))


def test_coarser_levels_stay_within_their_detail_of_the_line(coasts):
    detail, seen = Detail(coasts), []
    for units_per_pixel in (0.05, 0.2, 1.0, 5.0, 40.0):
        level = detail.at(units_per_pixel)
        assert level.detail <= units_per_pixel / 2
        for k, line in enumerate(coasts):
            drawn = shapely.LineString(level.xy[level.starts[k] : level.starts[k + 1]])
            some = shapely.points(shapely.get_coordinates(line)[::50])
            assert shapely.distance(some, drawn).max() <= level.detail + 1e-9
        seen.append(len(level.xy))
    assert seen == sorted(seen, reverse=True) and seen[-1] < 3_000


def test_no_shape_is_lost_however_small_it_is():
    tiny = shapely.box(0, 0, 0.001, 0.001)
    shapes = np.array([coast(20_000).buffer(0.4), tiny], object)
    far = Detail(shapes).at(1e4)
    assert set(far.owner) == {0, 1} and (np.diff(far.starts) >= 2).all()


def test_a_view_shows_what_reaches_into_it(coasts):
    finest = Detail(coasts).at(0.0)
    for box in ((0.0, 0.0, 5.0, 5.0), (1e6, 1e6, 2e6, 2e6), (-1e6, -1e6, 1e6, 1e6)):
        expected = [shapely.box(*shapely.bounds(line)).intersects(shapely.box(*box)) for line in coasts]
        assert finest.seen_in(box).tolist() == expected


def test_a_crowded_view_takes_a_coarser_level():
    crowd = np.array([coast(60_000, seed) for seed in range(3)], object)
    detail = Detail(crowd)
    box = tuple(shapely.total_bounds(crowd))
    level, seen = detail.seen_in(box, 1e-6)
    assert detail.at(1e-6).detail == 0.0 and level.detail > 0.0
    assert seen.all() and level.points_of(seen) <= 40_000
    near = shapely.bounds(shapely.Point(crowd[0].coords[0]).buffer(1e-9))
    assert detail.seen_in(tuple(near), 1e-6)[0].points_of(detail.seen_in(tuple(near), 1e-6)[1]) <= 60_000


@pytest.mark.parametrize("count", [10, 6_000])
def test_a_path_holds_the_lines_one_after_another(count):
    """Few points are added one by one, many are packed: both give the same path."""
    lines = np.array([coast(count, 1), coast(count, 2), coast(count, 3)], object)
    finest = Detail(lines).at(0.0)
    path = path_of_parts(finest, np.array([True, False, True]))
    assert path.elementCount() == 2 * count
    starts = [k for k in range(path.elementCount()) if path.elementAt(k).isMoveTo()]
    assert starts == [0, count]
    assert [(e.x, e.y) for e in (path.elementAt(0), path.elementAt(count))] == [
        lines[0].coords[0],
        lines[2].coords[0],
    ]
    assert (path.elementAt(2 * count - 1).x, path.elementAt(2 * count - 1).y) == lines[2].coords[-1]


def test_areas_over_one_another_fill_as_one_and_holes_stay_open():
    ring = shapely.box(0, 0, 10, 10).difference(shapely.box(4, 4, 6, 6))
    turned = shapely.Polygon([(8, 8), (8, 12), (12, 12), (12, 8)])  # runs the other way round
    path = path_of_parts(Detail(np.array([ring, turned], object)).at(0.0), np.ones(3, bool))
    assert path.contains(QPointF(9, 9)) and path.contains(QPointF(1, 1)) and path.contains(QPointF(11, 11))
    assert not path.contains(QPointF(5, 5)) and not path.contains(QPointF(11, 1))


def test_parts_of_one_shape_share_its_owner_and_the_longest_carries_its_label():
    two = shapely.MultiLineString([[(0, 0), (1, 0)], [(5, 5), (6, 5), (7, 5), (8, 6)]])
    mixed = shapely.GeometryCollection([shapely.Point(0, 0), shapely.LineString([(0, 0), (3, 3)])])
    outlines = Detail(np.array([two, mixed, shapely.Point(1, 1)], object)).at(0.0)
    assert outlines.owner.tolist() == [0, 0, 1]
    assert outlines.line(0).tolist() == [[5, 5], [6, 5], [7, 5], [8, 6]]
    assert outlines.line(1).tolist() == [[0, 0], [3, 3]] and len(outlines.line(2)) == 0


def test_no_shapes_and_empty_shapes_have_no_outlines():
    for shapes in ([], [shapely.LineString(), shapely.Polygon()]):
        detail = Detail(np.array(shapes, object))
        outlines, seen = detail.seen_in((0, 0, 1, 1), 1.0)
        assert (
            len(outlines.owner) == 0 and path_of_parts(outlines, seen).isEmpty() and not detail.lengths.any()
        )
