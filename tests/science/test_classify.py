import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from moss_step.model.class_map import NO_CLASS
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.frame import Frame
from moss_step.model.rules import Rule, RuleSet
from moss_step.model.surface import Surface
from moss_step.model.units import DEGREE, METRE, PERCENT
from moss_step.science.classes.breaks import breaks, variance_fit
from moss_step.science.classes.classify import class_totals, classify, count_codes
from moss_step.science.classes.histogram import histogram
from moss_step.science.classes.presets import aspect_sectors, fao_slope, preset
from tests.conftest import surface

BOUND = st.one_of(st.none(), st.integers(-20, 380).map(float), st.floats(-20, 380, width=32))
RULES = st.lists(st.tuples(BOUND, BOUND), min_size=1, max_size=7)
VALUES = st.lists(
    st.one_of(st.just(float("nan")), st.integers(-20, 380).map(float), st.floats(-30, 400, width=32)),
    min_size=1,
    max_size=40,
)


@settings(deadline=None, max_examples=150)
@given(ranges=RULES, values=VALUES, closed=st.sampled_from(["upper", "lower"]))
def test_every_valid_cell_is_in_at_most_one_class_and_counts_add_up(ranges, values, closed):
    rules = RuleSet(tuple(Rule(a, b, i, f"C{i}", "#000000") for i, (a, b) in enumerate(ranges)), closed)
    grid = surface([values])
    classes = classify(grid, rules)
    totals = class_totals(classes, grid.valid_count)
    assert sum(c.cells for c in totals.classes) + totals.outside_cells == grid.valid_count
    for value, code in zip(grid.values[0], classes.codes[0], strict=True):
        if np.isnan(value):
            assert code == NO_CLASS
            continue
        held = [r.code for r in rules.compared if r.holds(float(value), closed)]
        if held:
            assert code == held[0], "the first range that holds a value takes it"
        else:
            ends = {b for r in rules.compared for b in (r.low, r.high)}
            assert code == NO_CLASS or float(value) in ends, "only the outermost bound may be taken besides"


def test_a_typed_bound_equals_the_stored_value():
    """0.1 is not a float32, so a bound of 0.1 must meet the stored 0.1 at float32 precision."""
    rules = RuleSet((Rule(0.0, 0.1, 1, "low", "#000000"), Rule(0.1, 1.0, 2, "high", "#000000")))
    assert classify(surface([[0.1]]), rules).codes[0, 0] == 1


def test_areas_follow_the_rows_of_a_grid_in_degrees():
    frame = Frame(60, 10, 0.0, 60.0, 1.0, 1.0, "EPSG:4326")
    rows = np.repeat(np.arange(60)[:, None] // 30, 10, axis=1).astype(np.uint8)
    counts, areas = count_codes(rows, frame)
    assert list(counts[:2]) == [300, 300]
    assert areas[0] == pytest.approx(frame.row_areas[:30].sum() * 10)
    assert areas[:2].sum() == pytest.approx(frame.area)


def test_fao_classes_in_percent_and_in_degrees_agree():
    percent = surface([[0.1, 0.2, 0.3, 1.5, 8.0, 29.0, 31.0, 61.0]], unit=PERCENT)
    degrees = Surface(
        np.degrees(np.arctan(percent.values / 100)).astype(np.float32), percent.frame, DEGREE, "slope"
    )
    expected = [1, 1, 2, 4, 6, 8, 9, 10]
    assert classify(percent, fao_slope(percent)).codes[0].tolist() == expected
    found = classify(degrees, fao_slope(degrees)).codes[0].tolist()
    assert [f for i, f in enumerate(found) if i != 1] == [e for i, e in enumerate(expected) if i != 1]
    with pytest.raises(MossError, match="need a slope"):
        fao_slope(surface([[1.0]], unit=METRE))


def test_north_wraps_and_flat_is_its_own_class():
    grid = surface([[-1, 0, 22.5, 22.6, 90, 337.5, 337.6, 359.9]])
    assert classify(grid, aspect_sectors()).codes[0].tolist() == [0, 1, 1, 2, 3, 8, 1, 1]
    assert classify(grid, aspect_sectors("lower")).codes[0].tolist() == [0, 1, 2, 2, 3, 1, 1, 1]


def test_natural_breaks_equal_the_best_split_of_all():
    """Brute force over all splits of a small set (Fisher 1958)."""
    values = np.array([1, 2, 3, 4, 10, 11, 12, 30, 31, 33, 50], np.float32)
    found = breaks(surface([values]), "natural", 3)

    def cost(cuts):
        parts = np.split(values.astype(float), cuts)
        return sum(((p - p.mean()) ** 2).sum() for p in parts)

    best = min(((i, j) for i in range(1, 10) for j in range(i + 1, 11)), key=cost)
    assert found == [1.0, values[best[0] - 1], values[best[1] - 1], 50.0]


def test_equal_interval_and_equal_count():
    grid = surface([np.arange(101.0)])
    assert breaks(grid, "equal_interval", 4) == [0, 25, 50, 75, 100]
    assert breaks(grid, "equal_count", 5) == [0, 20, 40, 60, 80, 100]
    skewed = surface([[0, 0, 0, 0, 0, 0, 0, 0, 1, 2]])
    assert breaks(skewed, "equal_count", 4)[0] == 0.0, "equal bounds are merged"


@pytest.mark.parametrize(
    ("values", "count", "error", "said"),
    [
        ([[np.nan]], 3, MossError, "no values"),
        ([[5, 5]], 3, MossError, "Every cell holds 5"),
        ([[1, 2]], 1, AskedWronglyError, "1 classes are not possible"),
    ],
)
def test_breaks_that_cannot_be(values, count, error, said):
    with pytest.raises(error, match=said):
        breaks(surface(values), "equal_interval", count)


def test_unknown_and_unfitting_sets_are_refused():
    with pytest.raises(AskedWronglyError, match="not a ready set"):
        preset("rainbow", surface([[1, 2]]))
    with pytest.raises(MossError, match="need an aspect"):
        preset("aspect_8", surface([[1, 2]]))


def test_histogram_counts_all_values_and_finds_quantiles():
    rng = np.random.default_rng(0)
    grid = surface(rng.normal(0, 1, (200, 300)))
    bins = histogram(grid)
    expected, _ = np.histogram(grid.values, 256, grid.range)
    assert bins.counts.sum() == grid.values.size
    assert np.abs(bins.counts - expected).sum() <= 20, "only rounding at the edges of bins may differ"
    assert bins.quantile(0.5) == pytest.approx(np.median(grid.values), abs=0.05)


@pytest.mark.parametrize("count", [2, 3, 5, 9])
def test_natural_breaks_are_those_of_a_library_on_values_of_any_kind(count):
    """Fisher 1958; mapclassify.FisherJenks on the same values (general library)."""
    import mapclassify  # here: it compiles for ten seconds when it is imported

    rng = np.random.default_rng(count)
    for values in (rng.normal(size=300), rng.exponential(5.0, 280), np.rint(rng.normal(400.0, 20.0, 500))):
        grid = surface([values])
        expected = mapclassify.FisherJenks(grid.values.ravel().astype(np.float64), k=count).bins
        assert breaks(grid, "natural", count)[1:] == pytest.approx(expected)


def test_natural_breaks_of_a_large_surface_come_from_all_cells():
    """As good as any other bounds: moving one by a bin does not raise the fit, and a rare high class is found (mathematics)."""
    rng = np.random.default_rng(0)
    values = rng.exponential(10.0, (1100, 1000))
    values[17, 30:60] = 900.0  # thirty cells of a million: an even sample of a thousand hardly meets one
    grid = surface(values)
    found = breaks(grid, "natural", 5)
    assert found[-2] < 300.0 < found[-1]
    best, step = variance_fit(grid, found), (found[-1] - found[0]) / 4096
    for k in range(1, 5):
        for move in (-2 * step, 2 * step):
            other = [b + move * (i == k) for i, b in enumerate(found)]
            assert variance_fit(grid, other) <= best + 1e-6


def test_the_fit_of_breaks_is_the_share_of_variance_between_the_classes():
    """By hand: classes 1 2 3 and 10 11 12 hold deviations of 2 each, of 125.5 around the mean (Jenks 1967)."""
    grid = surface([[1, 2, 3, 10, 11, 12]])
    assert variance_fit(grid, [1.0, 3.0, 12.0]) == pytest.approx(1.0 - 4.0 / 125.5)
    assert variance_fit(grid, [1.0, 12.0]) == 0.0
