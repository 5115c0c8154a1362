from dataclasses import replace

import numpy as np
import pytest
from numpy.testing import assert_allclose

from moss_step.model.class_map import NO_CLASS
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.surface import Surface
from moss_step.model.units import BEARING, CENTIMETRE, DEGREE, FOOT, METRE, NONE, PERCENT
from moss_step.science.algebra import voids
from moss_step.science.algebra.arithmetic import converted, difference, exaggerated, merge
from moss_step.science.algebra.criteria import (
    RANDOM_INDEX,
    combine,
    pairwise_weights,
    threshold,
    weighted_sum,
)
from moss_step.science.algebra.formula import FormulaError, evaluate, names_in, parse
from moss_step.science.algebra.voids import fill_voids
from tests.conftest import plane, surface
from tests.grounds import in_degrees, metric, relief

RNG = np.random.default_rng(4)
A = surface(RNG.normal(0, 10, (70, 40)))
B = surface(RNG.normal(5, 3, (70, 40)))


@pytest.mark.parametrize(
    ("text", "by_numpy"),
    [
        ("a + b * 2 - 3", lambda a, b: a + b * 2 - 3),
        ("(a - b) / (a + 100)", lambda a, b: (a - b) / (a + 100)),
        ("where(a > b, a, -b)", lambda a, b: np.where(a > b, a, -b)),
        ("min(a, b, 0) + max(a, b)", lambda a, b: np.minimum(np.minimum(a, b), 0) + np.maximum(a, b)),
        ("sqrt(abs(a) / 2) ** 2", lambda a, b: np.sqrt(np.abs(a) / 2) ** 2),
        ("-5 < a <= 5 and not b > 7", lambda a, b: (a > -5) & (a <= 5) & ~(b > 7)),
        ("a > 0 or b > 0", lambda a, b: (a > 0) | (b > 0)),
        ("sin(a / 1) + cos(pi)", lambda a, b: np.sin(a) - 1),
    ],
)
def test_formulas_equal_numpy(text, by_numpy):
    """The same expression written by hand in NumPy (general library)."""
    plain = {"a": Surface(A.values, A.frame, NONE, "value"), "b": Surface(B.values, B.frame, NONE, "value")}
    expected = by_numpy(A.values.astype(float), B.values.astype(float)).astype(np.float32)
    assert_allclose(evaluate(text, plain).values, expected, rtol=1e-4, atol=1e-4)


def test_no_data_stays_no_data():
    holed = A.values.copy()
    holed[3, 4] = np.nan
    a = Surface(holed, A.frame, METRE)
    for text in ("a + b", "a > 0", "a > 0 or b > 0", "a * 0"):
        found = evaluate(text, {"a": a, "b": B}).values
        assert np.isnan(found[3, 4]) and np.isnan(found).sum() == 1
    assert evaluate("where(isnan(a), 0, a)", {"a": a}).values[3, 4] == 0
    assert np.isnan(evaluate("b / (a - a)", {"a": A, "b": B}).values).all(), "division by zero is no-data"


@pytest.mark.parametrize(
    ("text", "said", "start"),
    [
        ("a + c", "There is no surface 'c'", 4),
        ("a.__class__", "A dot is not allowed", 0),
        ("__import__('os')", "cannot be called", 0),
        ("open(a)", "cannot be called", 0),
        ("a[0]", "A square bracket is not allowed", 0),
        ("a ** 1000", "A power must be a number up to 64", 5),
        ("a ** b", "A power must be a number", 5),
        ("(lambda: a)()", "cannot be called", 0),
        ("a if b else a", "This part is not allowed", 0),
        ("a +", "cannot be read at character", 0),
        ("1 + 1", "uses no surface", 0),
        ("a & b", "operator is not allowed", 0),
        ("sqrt(a, b)", "sqrt takes 1 value", 0),
        ("'x' + a", "is not a number", 0),
        ("a + 1e99", "too large", 4),
        ("(" * 3000 + "a" + ")" * 3000, "characters", 0),
    ],
)
def test_what_is_no_formula_is_pointed_at(text, said, start):
    with pytest.raises(FormulaError) as caught:
        evaluate(text, {"a": A, "b": B})
    assert said in str(caught.value) and caught.value.start == start


def test_units_are_carried_and_guarded():
    units = {"m": METRE, "cm": CENTIMETRE, "ft": FOOT, "pct": PERCENT, "deg": DEGREE, "dir": BEARING}
    assert parse("m - m * 2", units).part.unit == METRE
    assert parse("m / m", units).part.unit == NONE
    assert parse("pct > 30", units).part.logical
    for text, said in (("m + cm", "metre and centimetre do not mix"), ("m > ft", "metre and foot do not mix"), ("m / cm", "do not mix"),
                       ("pct + deg", "percent and degree do not mix"), ("m > pct", "measure different things")):  # fmt: skip
        with pytest.raises(FormulaError, match=said):
            parse(text, units)
    with pytest.raises(FormulaError, match=r"sin takes radians"):
        parse("sin(deg)", units)
    assert parse("sin(radians(deg))", units).part.unit == NONE
    assert names_in("where(a > 3, steep_2, pi)") == ["a", "steep_2"] and names_in("a +") == []


def test_surfaces_in_other_frames_do_not_mix():
    with pytest.raises(MossError, match="do not lie cell on cell"):
        evaluate("a + b", {"a": A, "b": plane(70, 40, 0, 0, dx=3.0)})


@pytest.mark.parametrize(
    ("bounds", "expected"),
    [
        ((30.0, True, None, False), [0, 1, 1]),
        ((30.0, False, None, False), [0, 0, 1]),
        ((None, False, 30.0, True), [1, 1, 0]),
        ((None, False, 30.0, False), [1, 0, 0]),
        ((20.0, False, 30.0, True), [0, 1, 0]),
    ],
)
def test_thresholds_and_their_ends(bounds, expected):
    found = threshold(surface([[20.0, 30.0, 40.0, np.nan]]), *bounds, "steep")
    assert found.codes[0, :3].tolist() == expected and found.codes[0, 3] == NO_CLASS
    only = threshold(surface([[20.0, 40.0]]), 30.0, True, None, False, "steep", keep_no=False)
    assert only.codes[0].tolist() == [NO_CLASS, 1] and len(only.classes) == 1


def test_combinations_by_rule():
    one = threshold(surface([[1, 1, 0, 0, np.nan]]), 0.5, True, None, False, "x")
    two = threshold(surface([[1, 0, 1, 0, 1]]), 0.5, True, None, False, "y")
    maps = {"steep": one, "high": two}
    assert combine(maps, "sum").codes[0].tolist() == [2, 1, 1, 0, NO_CLASS]
    assert combine(maps, "all").codes[0].tolist() == [1, 0, 0, 0, NO_CLASS]
    assert combine(maps, "any").codes[0].tolist() == [1, 1, 1, 0, NO_CLASS]
    which = combine(maps, "which")
    assert [which.entry(int(c)).name for c in which.codes[0, :4]] == [
        "steep and high",
        "steep",
        "high",
        "none of them",
    ]
    ranked = combine({"a": combine(maps, "sum"), "b": two}, "worst")
    assert ranked.codes[0].tolist() == [2, 1, 1, 0, NO_CLASS]
    with pytest.raises(MossError, match="has class 2, and yes is 1"):
        combine({"a": combine(maps, "sum"), "b": two}, "all")
    with pytest.raises(AskedWronglyError, match="1 maps cannot"):
        combine({"a": one}, "sum")


def test_pairwise_weights_of_saaty():
    """A consistent table gives its own ratios and a ratio of 0 (mathematics)."""
    weights, ratio = pairwise_weights(np.array([[1, 2, 4], [1 / 2, 1, 2], [1 / 4, 1 / 2, 1]]))
    assert_allclose(weights, [4 / 7, 2 / 7, 1 / 7])
    assert ratio == pytest.approx(0, abs=1e-9)
    _, torn = pairwise_weights(np.array([[1, 5, 1 / 5], [1 / 5, 1, 5], [5, 1 / 5, 1]]))
    assert torn > 0.1
    with pytest.raises(AskedWronglyError, match="reciprocal"):
        pairwise_weights(np.array([[1, 2], [2, 1]]))
    assert_allclose(
        weighted_sum({"a": A.values, "b": B.values}, [2, 1]),
        A.values * 2 / 3 + B.values / 3,
        rtol=1e-4,
        atol=1e-4,
    )


@pytest.mark.parametrize("n", range(3, 11))
def test_the_random_index_is_that_of_random_tables(n):
    """Saaty 1980 took the mean of random reciprocal tables on the scale 1/9 to 9: drawn anew, eigenvalues by numpy.linalg (general library)."""
    rng = np.random.default_rng(n)
    scale = np.array([*(1.0 / k for k in range(9, 1, -1)), *range(1, 10)])
    upper = np.triu_indices(n, 1)
    tables = np.ones((4000, n, n))
    drawn = rng.choice(scale, (4000, len(upper[0])))
    tables[:, upper[0], upper[1]], tables[:, upper[1], upper[0]] = drawn, 1.0 / drawn
    index = (np.linalg.eigvals(tables).real.max(axis=1).mean() - n) / (n - 1)
    assert RANDOM_INDEX[n] == pytest.approx(index, rel=0.12)


def test_differences_convert_units_and_say_so():
    high, low = plane(4, 4, 0.1, 0.0), plane(4, 4, 0.1, 0.0)
    in_feet = Surface(low.values / np.float32(0.3048), low.frame, FOOT)
    made, remarks = difference(high, in_feet)
    assert_allclose(made.values, 0, atol=1e-3)
    assert "converted from foot to metre" in remarks[0]
    assert_allclose(difference(high, low, "ratio")[0].values, 1)
    assert_allclose(difference(exaggerated(high, 1.1), low, "change")[0].values, 10, rtol=1e-3)
    assert_allclose(converted(high, FOOT).values, in_feet.values, rtol=1e-6)
    with pytest.raises(MossError, match="cannot be converted"):
        converted(high, DEGREE)


def test_small_voids_are_filled_and_large_ones_stay():
    dem = plane(40, 40, 0.5, 0.2)
    holed = dem.values.copy()
    holed[10:12, 10:12] = np.nan
    holed[20:32, 20:32] = np.nan
    holed[0, 5] = np.nan
    made, voids = fill_voids(Surface(holed, dem.frame, METRE), 10)
    assert (len(voids.first), len(voids.cells)) == (1, 4)
    assert_allclose(made.values[10:12, 10:12], dem.values[10:12, 10:12], atol=1e-3)
    assert np.isnan(made.values[25, 25]) and np.isnan(made.values[0, 5])


def test_tiles_are_merged_and_misfits_refused():
    whole = plane(20, 30, 0.1, 0.3)
    left, right = (
        Surface(whole.values[:, c].copy(), whole.frame.part(slice(0, 20), c), METRE)
        for c in (slice(0, 16), slice(14, 30))
    )
    made, remarks = merge({"left": left, "right": right})
    assert (
        np.array_equal(made.values, whole.values)
        and made.frame == whole.frame
        and "40 cells overlap" in remarks[0]
    )
    with pytest.raises(MossError, match="shifted"):
        from dataclasses import replace

        merge({"a": left, "b": Surface(right.values, replace(right.frame, x0=right.frame.x0 + 0.7), METRE)})
    with pytest.raises(MossError, match="cell size"):
        merge({"a": left, "b": plane(4, 4, 0, 0, dx=3.0)})


@pytest.mark.parametrize("on", [lambda z: metric(z, 20.0, 5.0), lambda z: in_degrees(z, 65.0)])
def test_voids_are_the_same_by_elimination_and_by_the_library(on, monkeypatch):
    """Library: SciPy's sparse solver, which solves the large ones."""
    z, dice = relief(11, 60, 80), np.random.default_rng(7)
    for r, c in zip(dice.integers(2, 45, 20), dice.integers(2, 65, 20), strict=True):
        z[r : r + dice.integers(1, 9), c : c + dice.integers(1, 9)] = np.nan
    holed = replace(on(z), values=z.astype(np.float64))
    made, found = fill_voids(holed, 2000)
    assert np.diff(found.starts).max() > 100 > np.diff(found.starts).min()
    monkeypatch.setattr(voids, "_SMALL", 0)
    by_library, again = fill_voids(holed, 2000)
    assert_allclose(made.values, by_library.values, rtol=1e-12)
    np.testing.assert_array_equal(found.cells, again.cells)


def test_a_large_void_is_filled_by_what_lies_on_its_rim(monkeypatch):
    """A saddle is its own membrane (mathematics); where memory has too little room that is said."""
    r, c = np.mgrid[0:260, 0:240] - 100.0
    z = 500.0 + 0.01 * (r * r - c * c)
    holed = metric(np.where((np.hypot(r, c) < 95.0) & (np.hypot(r, c) > 4.0), np.nan, z), 5.0, 5.0)
    made, found = fill_voids(holed, 40_000)
    assert len(found.cells) > 25_000
    assert_allclose(made.values, z, atol=1e-3)
    monkeypatch.setattr("moss_step.model.memory.free_memory", lambda: 10_000_000)
    with pytest.raises(MossError, match=r"Filling a void of 2\d,\d{3} cells needs about 0\.0 GB"):
        fill_voids(holed, 40_000)
