"""Which class became which, against NumPy's counts over the two grids."""

import numpy as np
import pytest

from moss_step.model.class_map import NO_CLASS, ClassEntry, ClassMap
from moss_step.model.errors import MossError
from moss_step.model.frame import Frame
from moss_step.science.classes.change import MOST_CHANGES, class_change
from tests.grounds import GROUNDS

NAMES = ("bog", "heath", "wood")


def maps(ground):
    """Two random class maps on a ground; the second numbers its classes in another way."""
    rng = np.random.default_rng(7)
    shape, hole = ground.frame.shape, np.isnan(ground.values)
    before = np.where(hole, NO_CLASS, rng.integers(0, 3, shape)).astype(np.uint8)
    names = rng.integers(0, 3, shape)
    after = np.where(rng.random(shape) < 0.05, NO_CLASS, 10 - names).astype(np.uint8)
    a = ClassMap(before, ground.frame, tuple(ClassEntry(k, n, "#112233") for k, n in enumerate(NAMES)))
    b = ClassMap(after, ground.frame, tuple(ClassEntry(10 - k, n, "#112233") for k, n in enumerate(NAMES)))
    return a, b, np.where(before == NO_CLASS, -1, before.astype(int)), np.where(after == NO_CLASS, -1, names)


@pytest.mark.parametrize("name", GROUNDS)
def test_pairs_are_those_that_numpy_counts(name):
    ground = GROUNDS[name]
    before, after, first, second = maps(ground)
    change = class_change(before, after)
    areas = np.broadcast_to(ground.frame.row_areas[:, None], ground.frame.shape)
    for k, (b, a) in enumerate(zip(change.before, change.after, strict=True)):
        there = (first == NAMES.index(b)) & (second == NAMES.index(a))
        assert change.cells[k] == there.sum() > 0
        assert change.areas[k] == pytest.approx(areas[there].sum(), rel=1e-12)
        assert np.array_equal(change.map.codes == k, there)
    classed = (first >= 0) & (second >= 0)
    assert change.areas.sum() == pytest.approx(areas[classed].sum(), rel=1e-12)
    assert np.array_equal(change.map.codes == NO_CLASS, ~classed)


def test_what_changed_stands_first_by_area_and_what_stays_is_pale():
    before, after, *_ = maps(GROUNDS[next(iter(GROUNDS))])
    change = class_change(before, after)
    changed = change.changed
    assert not changed[changed.argmin() :].any() and changed[0]
    moved = change.areas[changed]
    assert np.all(np.diff(moved) <= 0)
    colors = [c.color for c in change.map.classes]
    assert len(set(colors[: changed.sum()])) == changed.sum() and set(colors[changed.sum() :]) == {"#E9E8D8"}
    assert [c.name for c in change.map.classes][-1].startswith("stays ")


def test_maps_that_cannot_be_paired_are_refused_in_words():
    ground = GROUNDS[next(iter(GROUNDS))]
    before, after, *_ = maps(ground)
    other = Frame(*ground.frame.shape, ground.frame.x0 + 1.0, ground.frame.y0, ground.frame.dx, ground.frame.dy, ground.frame.crs)  # fmt: skip
    with pytest.raises(MossError, match="cell on cell"):
        class_change(before, ClassMap(after.codes, other, after.classes))
    empty = ClassMap(np.full(ground.frame.shape, NO_CLASS, np.uint8), ground.frame, after.classes)
    with pytest.raises(MossError, match="No cell has a class in both"):
        class_change(before, empty)


def test_more_pairs_than_a_map_can_hold_are_refused():
    frame = Frame(20, 20, 0.0, 20.0, 1.0, 1.0, "EPSG:32628")
    rows, cols = np.mgrid[0:20, 0:20].astype(np.uint8)
    classes = tuple(ClassEntry(k, f"class {k}", "#112233") for k in range(20))
    with pytest.raises(MossError, match=f"up to {MOST_CHANGES}"):
        class_change(ClassMap(rows, frame, classes), ClassMap(cols, frame, classes))
