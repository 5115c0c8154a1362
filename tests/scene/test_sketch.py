"""Editing shapes by their vertices, without a window: every change gives a new sketch, and none is lost on the way."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from moss_step.scene.sketch import Sketch, Spot, nearest

SQUARE = ((0.0, 0.0), (10.0, 0.0), (10.0, 10.0), (0.0, 10.0))


def test_an_edge_of_an_area_is_bent_and_straightened_again():
    sketch = Sketch("areas").adding(SQUARE, "Pit")
    spots = sketch.spots()
    assert len(spots) == 8 and sketch.place(Spot(0, 3, True)) == (0.0, 5.0), (
        "the last edge runs back to the first corner"
    )
    bent = sketch.moving(Spot(0, 1, True), (12.0, 5.0))
    assert bent.shapes[0].vertices == (*SQUARE[:2], (12.0, 5.0), *SQUARE[2:]) and bent.shapes[0].name == "Pit"
    assert bent.removing(Spot(0, 2)) == sketch and sketch.shapes[0].vertices == SQUARE


def test_a_line_has_no_edge_from_its_end_to_its_start():
    assert sum(s.between for s in Sketch("lines").adding(SQUARE).spots()) == 3
    assert not any(s.between for s in Sketch("points").adding(SQUARE[:1]).spots())


@pytest.mark.parametrize(("kind", "least"), [("points", 1), ("lines", 2), ("areas", 3)])
def test_a_shape_with_too_few_vertices_goes(kind, least):
    sketch = Sketch(kind).adding(SQUARE[:least]).adding(SQUARE[:least], "Other")
    assert [s.name for s in sketch.removing(Spot(0, 0)).shapes] == ["Other"]


def test_vertices_are_gone_through_around_all_shapes():
    sketch = Sketch("lines").adding(SQUARE[:2]).adding(SQUARE[2:])
    spot, seen = None, []
    for _ in range(5):
        spot = sketch.next_spot(spot, 1)
        seen.append(spot)
    assert seen == [Spot(0, 0), Spot(0, 1), Spot(1, 0), Spot(1, 1), Spot(0, 0)]
    assert sketch.next_spot(Spot(0, 0), -1) == Spot(1, 1) and Sketch("lines").next_spot(None, 1) is None
    assert sketch.has(Spot(1, 1)) and not sketch.has(Spot(2, 0)) and not sketch.has(None)


@given(st.lists(st.tuples(st.floats(-1e6, 1e6), st.floats(-1e6, 1e6)), min_size=3, max_size=8), st.data())
def test_moving_a_vertex_there_and_back_is_no_change(vertices, data):
    sketch = Sketch("areas").adding(vertices)
    spot = Spot(0, data.draw(st.integers(0, len(vertices) - 1)))
    assert sketch.moving(spot, (1.0, 2.0)).moving(spot, vertices[spot.vertex]) == sketch


def test_the_nearest_place_within_reach():
    places = np.array([[0.0, 0.0], [5.0, 0.0], [5.0, 4.0]])
    assert (
        nearest(places, (4.0, 1.0), 3.0) == 1
        and nearest(places, (4.0, 1.0), 1.0) is None
        and nearest(places[:0], (0, 0), 9.0) is None
    )
