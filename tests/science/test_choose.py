"""Choosing shapes by condition, number and relation; rounding outlines; weighted classes."""

import numpy as np
import pytest
import shapely
from hypothesis import given, settings
from hypothesis import strategies as st

from moss_step.model.class_map import NO_CLASS, ClassEntry, ClassMap
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.shapes import Shapes
from moss_step.science.algebra.criteria import weighted_classes
from moss_step.science.zones.choose import kept, numbers_text, related, row_numbers, rows_matching
from moss_step.science.zones.outlines import classes_to_areas
from tests.conftest import plane

COLUMNS = {
    "name": np.array(["Cotton Flat", "Wether Bog", "Long Moss"], object),
    "area_m2": np.array([10.0, 250.0, 90.0]),
}


def squares() -> Shapes:
    boxes = [shapely.box(0, 0, 10, 10), shapely.box(20, 0, 30, 10), shapely.box(8, 0, 22, 4)]
    return Shapes(np.array(boxes, object), COLUMNS, None)


@pytest.mark.parametrize(
    ("text", "rows"),
    [
        ("area_m2 > 50", [1, 2]),
        ("bog", [1]),
        ("o", [0, 1, 2]),
        ("area_m2 > 50 and area_m2 < 100", [2]),
        ("", [0, 1, 2]),
        ("zz", []),
    ],
)
def test_rows_by_text_or_condition(text, rows):
    assert rows_matching(COLUMNS, text).tolist() == rows


def test_a_condition_is_checked_like_a_formula():
    with pytest.raises(AskedWronglyError, match="There is no surface 'mean'"):
        rows_matching(COLUMNS, "mean > 2")


@given(st.sets(st.integers(0, 300), min_size=1))
@settings(max_examples=50)
def test_numbers_are_written_as_they_are_read(rows):
    assert row_numbers(numbers_text(np.array(sorted(rows))), 301).tolist() == sorted(rows)


@pytest.mark.parametrize("text", ["0", "4", "2-9", "a", "3-1", "1;2"])
def test_rows_that_are_not_there_are_refused(text):
    with pytest.raises(AskedWronglyError, match="names no row"):
        row_numbers(text, 3)


def test_relations_to_other_shapes():
    """The predicates of shapely on each shape and the union of the others (general library)."""
    others = Shapes(np.array([shapely.box(-1, -1, 5, 11), shapely.box(4, -1, 12, 11)], object))
    assert related(squares(), others, "meets").tolist() == [0, 2]
    assert related(squares(), others, "within").tolist() == [0]  # held by both together, by neither alone
    assert related(squares(), others, "apart").tolist() == [1]


def test_kept_shapes_keep_their_columns():
    made = kept(squares(), np.array([2, 0]))
    assert made.columns["name"].tolist() == ["Long Moss", "Cotton Flat"] and made.geometry[0].area == 56
    with pytest.raises(MossError, match="No shape is chosen"):
        kept(squares(), np.array([], int))


def patchwork(seed: int) -> ClassMap:
    rng = np.random.default_rng(seed)
    codes = np.kron(rng.integers(0, 3, (9, 11)), np.ones((4, 4), int)).astype(np.uint8)
    codes[5:9, 9:14] = NO_CLASS
    return ClassMap(
        codes, plane(*codes.shape, 0, 0).frame, tuple(ClassEntry(k, f"c{k}", "#000000") for k in range(3))
    )


@pytest.mark.parametrize("seed", range(4))
def test_rounded_outlines_leave_no_seam(seed):
    """Areas of neighbours add up to the area of their union, before and after rounding (shapely)."""
    classes = patchwork(seed)
    exact, rounded = classes_to_areas(classes), classes_to_areas(classes, 3)
    total = shapely.area(exact.geometry).sum()
    assert shapely.area(shapely.union_all(rounded.geometry)) == pytest.approx(
        shapely.area(rounded.geometry).sum(), rel=1e-9
    )
    hole = (classes.codes == NO_CLASS).sum() * classes.frame.dx * classes.frame.dy
    assert abs(shapely.area(rounded.geometry).sum() - total) < hole
    assert shapely.is_valid(rounded.geometry).all()
    assert (rounded.columns["area_m2"] == exact.columns["area_m2"]).all()
    assert (
        shapely.get_num_coordinates(rounded.geometry).sum()
        > shapely.get_num_coordinates(exact.geometry).sum()
    )


def test_a_lone_square_becomes_round_within_itself():
    codes = np.full((12, 12), NO_CLASS, np.uint8)
    codes[4:8, 4:8] = 1
    made = classes_to_areas(ClassMap(codes, plane(12, 12, 0, 0).frame, (ClassEntry(1, "one", "#000000"),)), 4)
    exact = classes_to_areas(ClassMap(codes, plane(12, 12, 0, 0).frame, (ClassEntry(1, "one", "#000000"),)))
    assert exact.geometry[0].covers(made.geometry[0].buffer(-1e-9))
    assert (
        0.75 < made.geometry[0].area / exact.geometry[0].area < 0.9
    )  # corner cutting of a square tends to 5/6


def test_weighted_classes_round_the_mean_and_keep_missing():
    frame = plane(1, 4, 0, 0).frame
    entries = tuple(ClassEntry(k, str(k), "#000000") for k in (1, 2, 3))
    a = ClassMap(np.array([[1, 2, 3, NO_CLASS]], np.uint8), frame, entries)
    b = ClassMap(np.array([[3, 3, 3, 1]], np.uint8), frame, entries)
    made = weighted_classes({"a": a, "b": b}, [3, 1])
    assert made.codes.tolist() == [[2, 2, 3, NO_CLASS]]  # 1.5 rounds up, 2.25 down
    assert [c.name for c in made.classes] == ["score 1", "score 2", "score 3"]
    with pytest.raises(AskedWronglyError, match="weights do not fit"):
        weighted_classes({"a": a, "b": b}, [1, 2, 3])
