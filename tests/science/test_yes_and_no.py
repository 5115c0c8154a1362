"""Conditions as numbers: yes is 1, no is 0, no-data stays, in single or double precision throughout."""

import numpy as np
import pytest

from moss_step.model.surface import Surface
from moss_step.model.units import METRE, UNKNOWN
from moss_step.science.algebra.formula import FormulaError, evaluate
from tests.conftest import surface

DEM = surface([[1.0, 2.0, 3.0, np.nan]])
LAND = surface([[5.0, np.nan, 7.0, 8.0]])


def worked(text: str) -> np.ndarray:
    return evaluate(text, {"dem": DEM, "land": LAND}).values[0]


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("(dem > 1) + (dem > 2)", [0, 1, 2, np.nan]),
        ("(dem > 1) * 3 + (dem > 2) * 4", [0, 3, 7, np.nan]),
        ("(dem >= 1) + (dem >= 1) + (dem >= 1)", [3, 3, 3, np.nan]),
        ("-(dem > 1)", [0, -1, -1, np.nan]),
        ("sign(dem > 1)", [0, 1, 1, np.nan]),
        ("abs(dem > 1) + +(dem > 2)", [0, 1, 2, np.nan]),
        ("degrees(dem > 1)", [0, np.degrees(1.0), np.degrees(1.0), np.nan]),
        ("sqrt(dem > 1) * 70000", [0, 70000, 70000, np.nan]),
        ("exp((dem > 1) * 11)", [1, np.exp(11.0), np.exp(11.0), np.nan]),
        ("min(dem > 1, dem > 2) + max(dem > 1, 5)", [5, 5, 6, np.nan]),
        ("arctan2(dem > 1, dem > 0)", [0, np.pi / 4, np.pi / 4, np.nan]),
        ("(dem > 1) - (dem > 2)", [0, 1, 0, np.nan]),
        ("round((dem > 1) / 3 * 3)", [0, 1, 1, np.nan]),
        ("(dem > 1) ** 2 + (dem > 1) % 2 + (dem > 1) // 1", [0, 3, 3, np.nan]),
        ("not (dem > 1)", [1, 0, 0, np.nan]),
        ("(dem > 1) == (dem > 2)", [1, 0, 1, np.nan]),
    ],
)
def test_conditions_are_numbers(text, expected):
    assert worked(text) == pytest.approx(expected, rel=1e-6, nan_ok=True)


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("(dem > 0) + (land > 0)", [2, np.nan, 2, np.nan]),
        ("dem > 0 and land > 9", [0, np.nan, 0, np.nan]),
        ("dem > 0 or land > 0", [1, np.nan, 1, np.nan]),
        ("where(land > 6, 1, 0)", [0, np.nan, 1, 1]),
        ("where(isnan(land), 0, land)", [5, 0, 7, 8]),
        ("isnan(land) + isnan(dem)", [0, 1, 0, 1]),
        ("sqrt(dem - 2) > 0", [np.nan, 0, 1, np.nan]),
        ("not isnan(dem)", [1, 1, 1, 0]),
    ],
)
def test_no_data_is_neither_yes_nor_no(text, expected):
    assert worked(text) == pytest.approx(expected, nan_ok=True)


def test_criteria_that_add_up_count_how_many_hold():
    """As NumPy adds booleans that were made numbers first (general library)."""
    rng = np.random.default_rng(1)
    values = {n: rng.normal(size=(20, 30)).astype(np.float32) for n in "abc"}
    made = evaluate("(a > 0) + (b > 0.5) + (c < -0.2)", {n: surface(v) for n, v in values.items()})
    expected = (
        (values["a"] > 0).astype(int) + (values["b"] > np.float32(0.5)) + (values["c"] < np.float32(-0.2))
    )
    assert np.array_equal(made.values, expected) and made.values.dtype == np.float32


def test_double_precision_stays_double():
    high = Surface(4000.0 + np.array([[0.0001, 0.0002, 0.0004]]), surface([[0.0, 0, 0]]).frame, METRE)
    made = evaluate("dem - 4000", {"dem": high})
    assert made.values.dtype == np.float64 and made.values[0] == pytest.approx([1e-4, 2e-4, 4e-4], rel=1e-6)
    assert evaluate("dem > 4000.00015", {"dem": high}).values[0].tolist() == [0.0, 1.0, 1.0]


def test_heights_of_an_unstated_unit_do_not_mix_with_feet():
    from moss_step.model.units import FOOT

    unknown, feet = surface([[1.0, 2.0]], unit=UNKNOWN), surface([[3.0, 4.0]], unit=FOOT)
    with pytest.raises(FormulaError, match="not stated, so that metres would be taken"):
        evaluate("a + b", {"a": unknown, "b": feet})
    assert evaluate("a + b", {"a": unknown, "b": surface([[3.0, 4.0]])}).unit == METRE
