"""What surfaces and class maps make of the arrays that they are given."""

import numpy as np
import pytest

from moss_step.model.class_map import ClassEntry, ClassMap
from moss_step.model.errors import MossError
from moss_step.model.frame import Frame
from moss_step.model.surface import Surface
from moss_step.science.relief.gradient import slope
from tests.grounds import metric, relief

FRAME = Frame(36, 42, 0.0, 360.0, 10.0, 10.0, "EPSG:32628")


@pytest.mark.parametrize(
    ("given", "held"),
    [
        ("f4", "f4"),
        ("f8", "f8"),
        ("f2", "f4"),
        (">f4", "f4"),
        (">f8", "f8"),
        ("i2", "f4"),
        ("u1", "f4"),
        ("i4", "f8"),
        ("i8", "f8"),
        ("?", "f4"),
    ],
)
def test_values_of_any_type_are_held_as_kernels_take_them(given, held):
    values = np.round(relief()).astype(given)
    surface = Surface(values, FRAME)
    assert (
        surface.values.dtype == np.dtype(held)
        and surface.values.dtype.isnative
        and surface.values.flags.c_contiguous
    )
    np.testing.assert_array_equal(surface.values, values.astype(held))
    assert values.flags.writeable and not surface.values.flags.writeable


def test_what_lies_as_it_should_is_not_copied_and_stays_writable():
    values = relief().astype(np.float32)
    surface = Surface(values, FRAME)
    assert np.shares_memory(surface.values, values)
    values[0, 0] = 7.0  # the caller's own: nothing forbids it
    with pytest.raises(ValueError, match="read-only"):
        surface.values[0, 0] = 8.0


@pytest.mark.parametrize(
    "turn", [np.asfortranarray, lambda v: v[:, ::-1][:, ::-1], lambda v: np.repeat(v, 2, axis=1)[:, ::2]]
)
def test_any_order_gives_the_same_slope(turn):
    plain = slope(metric(relief())).values
    other = Surface(turn(relief().astype(np.float32)), metric(relief()).frame, metric(relief()).unit)
    np.testing.assert_array_equal(slope(other).values, plain)


@pytest.mark.parametrize(
    "values", [np.zeros((36, 42), complex), np.full((36, 42), "a", object), np.zeros((36, 42), "M8[s]")]
)
def test_what_holds_no_real_numbers_is_refused(values):
    with pytest.raises(MossError, match="no real numbers"):
        Surface(values, FRAME)


def test_codes_of_the_caller_stay_writable():
    codes = np.zeros((36, 42), np.int64)
    classes = ClassMap(codes, FRAME, (ClassEntry(0, "all", "#112233"),))
    for wrong in (codes - 1, codes + 256, codes + 0.5):
        with pytest.raises(MossError, match="from 0 to 255"):
            ClassMap(wrong, FRAME, classes.classes)
    assert classes.codes.dtype == np.uint8 and codes.flags.writeable and not classes.codes.flags.writeable
