"""Formulas made at random against NumPy on the same values, and texts made at random, which never run and never crash."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from numpy.testing import assert_allclose

from moss_step.model.errors import MossError
from moss_step.model.surface import Surface
from moss_step.model.units import NONE
from moss_step.science.algebra.criteria import combine, pairwise_weights, threshold
from moss_step.science.algebra.formula import FormulaError, evaluate, names_in
from tests.conftest import surface

rng = np.random.default_rng(12)
VALUES = {n: rng.uniform(-9, 9, (12, 9)).astype(np.float32) for n in ("a", "b", "slope_2")}
VALUES["b"][3, 4] = np.nan
SURFACES = {n: Surface(v, surface(v).frame, NONE, "value") for n, v in VALUES.items()}
AS_NUMPY = {"abs": np.abs, "sqrt": np.sqrt, "min": lambda *v: np.minimum.reduce(np.broadcast_arrays(*v)),
            "max": lambda *v: np.maximum.reduce(np.broadcast_arrays(*v)), "where": np.where, "sin": np.sin, "exp": np.exp}  # fmt: skip

numbers = st.integers(-9, 9).map(str) | st.floats(0.1, 9).map(lambda v: f"{v:.3f}")
leaves = st.sampled_from(sorted(VALUES)) | numbers


def larger(inner: st.SearchStrategy[str]) -> st.SearchStrategy[str]:
    binary = st.tuples(inner, st.sampled_from("+-*/"), inner).map(lambda t: f"({t[0]} {t[1]} {t[2]})")
    one = st.tuples(st.sampled_from(["abs", "sin"]), inner).map(lambda t: f"{t[0]}({t[1]})")
    two = st.tuples(st.sampled_from(["min", "max"]), inner, inner).map(lambda t: f"{t[0]}({t[1]}, {t[2]})")
    choice = st.tuples(inner, st.sampled_from(["<", ">=", ">"]), inner, inner, inner).map(
        lambda t: f"where({t[0]} {t[1]} {t[2]}, {t[3]}, {t[4]})"
    )
    return binary | one | two | choice | inner.map(lambda t: f"-({t})")


formulas = st.recursive(leaves, larger, max_leaves=10)


@given(formulas)
@settings(max_examples=200, deadline=None)
def test_a_formula_is_what_numpy_makes_of_it(text):
    """Python's own evaluation of the same text over NumPy arrays in double precision (general library)."""
    if not set(names_in(text)) & set(VALUES):
        with pytest.raises(FormulaError, match="uses no surface"):
            evaluate(text, SURFACES)
        return
    with np.errstate(all="ignore"):
        names = {**AS_NUMPY, **{n: v.astype(np.float64) for n, v in VALUES.items()}}
        exact = eval(text, {"__builtins__": {}}, names)  # noqa: S307 - text that the test made itself
    expected = np.broadcast_to(exact, (12, 9))
    found = evaluate(text, SURFACES).values
    known = np.isfinite(found) & np.isfinite(expected)
    # Differences of nearly equal values, and choices on such, may fall otherwise in single precision.
    near = np.isclose(
        found[known],
        expected[known],
        rtol=1e-3,
        atol=1e-3 * max(1.0, float(np.abs(expected[known]).max(initial=1.0))),
    )
    assert near.mean() > 0.97 if near.size else True


@given(st.text(max_size=60))
@settings(max_examples=300, deadline=None)
def test_any_text_is_a_formula_or_refused_with_the_part_that_is_wrong(text):
    try:
        evaluate(text, SURFACES)
    except FormulaError as error:
        assert 0 <= error.start <= error.end
        assert error.what and error.do
    except MossError as error:
        assert error.what


HOSTILE = [
    "().__class__.__bases__[0].__subclasses__()", "__import__('os').system('true')", "a if a else b", "[x for x in (a,)]", "a := 3",
    "lambda: a", "f'{a}'", "exec('a')", "open('x')", "globals()", "a.values.tofile('x')", "getattr(a, 'values')", "(" * 500 + "a" + ")" * 500,
    "a" + "+a" * 5000, "9**9**9", "a ** 9 ** 9", "a << 900", "b'a'", "a @ b", "yield a", "await a", "{a: b}", "{a}", "a; b", "a\nb", "\0a", "a ** -1e9",
    "1e400 + a", "...", "a[::2]", "print(a)", "min(*[a])", "min(a, key=b)",
]  # fmt: skip


@pytest.mark.parametrize("text", HOSTILE)
def test_hostile_texts_are_refused_at_once(text, tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    with pytest.raises(MossError):
        evaluate(text, SURFACES)
    assert not list(tmp_path.iterdir())


bounds = st.floats(-9, 9, width=32)


@given(bounds, st.sampled_from([("at_least", np.greater_equal), ("above", np.greater)]))
def test_a_threshold_passes_what_the_comparison_passes(bound, side):
    """Yes where NumPy's comparison holds, no elsewhere, no-data where there is none."""
    made = threshold(SURFACES["b"], bound, side[0] == "at_least", None, False, "passes", keep_no=True)
    expected = side[1](VALUES["b"], np.float32(bound))
    known = ~np.isnan(VALUES["b"])
    yes = next(c.code for c in made.classes if c.name == "passes")
    assert np.array_equal((made.codes == yes)[known], expected[known])


@given(st.integers(2, 5))
@settings(max_examples=20, deadline=None)
def test_classes_of_a_combination_count_its_criteria(count):
    """The sum of yes/no criteria has each cell in the class of its number of yeses (counting by NumPy)."""
    marks = np.random.default_rng(count).random((count, 12, 9)) < 0.5
    maps = {
        f"c{k}": threshold(surface(m.astype(np.float32)), 0.5, True, None, False, f"c{k}", keep_no=True)
        for k, m in enumerate(marks)
    }
    made = combine(maps, "sum")
    assert np.array_equal(made.codes, marks.sum(axis=0))
    assert {c.code for c in made.classes} >= set(np.unique(made.codes).tolist())


@given(st.integers(2, 6).flatmap(lambda n: st.lists(st.floats(0.2, 5), min_size=n, max_size=n)))
@settings(max_examples=60, deadline=None)
def test_consistent_comparisons_give_back_the_weights_they_came_from(weights):
    """Saaty: the principal eigenvector of w_i / w_j is w, with a consistency ratio of 0 (mathematics)."""
    expected = np.array(weights) / np.sum(weights)
    found, ratio = pairwise_weights(expected[:, None] / expected)
    assert_allclose(found, expected, rtol=1e-6)
    assert ratio == pytest.approx(0.0, abs=1e-6)
