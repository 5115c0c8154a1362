"""The ground before and after that a result compares: where both are apart, and what the block stands on."""

import numpy as np

from moss_step.model.frame import Frame
from moss_step.model.surface import Surface
from moss_step.model.units import FOOT, METRE
from moss_step.scene.pairs import Pair, sheet_of, with_after

FRAME = Frame(40, 60, 0.0, 40.0, 1.0, 1.0, "EPSG:32628")


def pair(after_unit=METRE):
    before = np.full(FRAME.shape, 10.0, np.float32)
    after = before.copy()
    after[10:20, 10:30] -= 2.0
    after[20:30, 10:30] += 3.0
    off = np.where(after == before, np.float32(np.nan), after - before)
    first, changed = Surface(before, FRAME, METRE), Surface(off, FRAME, METRE, "difference")
    last = Surface(after / np.float32(after_unit.factor), FRAME, after_unit)
    return Pair(first, last, ("before", "after"), changed)


def test_the_ground_as_it_was_lies_above_what_was_cut_and_below_what_was_filled():
    for unit in (METRE, FOOT):
        sheet = sheet_of(pair(unit))
        assert sheet.box == FRAME.part(slice(10, 30), slice(10, 30)).box
        assert np.nanmax(np.abs(sheet.heights - 10.0)) < 1e-4
        assert abs(np.nanmax(sheet.above) - 2.0) < 1e-4 and abs(np.nanmin(sheet.above) + 3.0) < 1e-4
        assert (sheet.above[: sheet.above.shape[0] // 3] > 0).all()


def test_where_nothing_changed_there_is_no_sheet():
    same = Surface(np.full(FRAME.shape, 10.0, np.float32), FRAME, METRE)
    none = Surface(np.full(FRAME.shape, np.nan, np.float32), FRAME, METRE, "difference")
    sheet = sheet_of(Pair(same, same, ("a", "b"), none))
    assert np.isnan(sheet.heights).all()


def test_the_standing_ground_becomes_what_it_will_be():
    both = pair()
    whole = with_after(both.before.values.copy(), both.before, both)
    assert np.array_equal(whole, both.after.values)
    halved = with_after(both.before.values[1::2, 1::2].copy(), both.before, both)
    assert np.array_equal(halved, both.after.values[1::2, 1::2])
    part = with_after(both.before.values[9:15, 8:20].copy(), both.before, both, (9, 8), 1)
    assert np.array_equal(part, both.after.values[9:15, 8:20])
    other = Surface(both.before.values, FRAME, METRE)
    assert with_after(other.values, other, both) is other.values, "neither of the two: it stays"
