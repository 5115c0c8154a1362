"""How far steps say that they look, against runs on parts of a ground: the same cells come out as of the whole."""

import numpy as np
import pytest

from moss_step.kinds.registry import kind_of
from moss_step.model.frame import same_frame
from moss_step.model.progress import silent
from moss_step.steps.catalogue import catalogue
from moss_step.study.declared import run_declared
from moss_step.study.partly import run_partly
from tests.cases import KINDS, as_is, given_for, inputs_for
from tests.grounds import GROUNDS, holed, in_degrees, metric, relief

PARTS = [
    (slice(8, 26), slice(10, 31)),
    (slice(0, 12), slice(0, 15)),
    (slice(25, 36), slice(28, 42)),
    (slice(17, 18), slice(20, 21)),
]
LOCAL = sorted(n for n, k in KINDS.items() if k.reach.kind in ("cell", "around"))
RUNNING = {"position"}
"""Steps that work on running sums: parts agree to the last digits, not to the bit. So do all where the corner of a part is rounded otherwise."""
EXTRA = {
    "rims, 4:1": metric(holed(relief(3)), 20.0, 5.0),
    "rims at 65 north": in_degrees(holed(relief(4)), 65.0),
}


def test_most_local_steps_say_that_they_are_and_who_looks_along_rays_says_so():
    assert len(LOCAL) >= 17
    assert {n for n, k in catalogue().items() if k.reach.kind == "rays"} >= {
        "viewshed",
        "mast_height",
        "sight_line",
        "horizon",
    }
    assert all(k.reach.kind == "whole" for n, k in catalogue().items() if k.bench == "water")


@pytest.mark.parametrize("on", [*GROUNDS, *EXTRA])
@pytest.mark.parametrize("name", LOCAL)
def test_a_part_is_what_the_whole_has_there(name, on):
    kind, ground = KINDS[name], {**GROUNDS, **EXTRA}[on]
    given = given_for(kind, as_is(ground), ground)
    if name == "classify":
        middle = float(np.nanmedian(ground.values))
        ends = ((None, middle, 1, "low", "#112233"), (middle, None, 2, "high", "#445566"))
        given["rules"] = [
            dict(zip(("low", "high", "code", "name", "color"), row, strict=True)) for row in ends
        ]
    inputs = inputs_for(kind, ground, as_is(ground))
    whole = run_declared(kind, given, inputs, silent()).value
    for rows, cols in PARTS:
        part = run_partly(kind, kind.checked(given), inputs, (rows, cols), silent())
        assert part is not None
        expected = kind_of(whole).part(whole, rows, cols)
        assert same_frame(part.value.frame, expected.frame)
        ours, theirs = (kind_of(v).array(v) for v in (part.value, expected))
        if name in RUNNING or (ground.frame.geographic and kind.reach.kind == "around"):
            np.testing.assert_allclose(ours, theirs, rtol=1e-4, atol=1e-4)
        else:
            np.testing.assert_array_equal(ours, theirs)


def test_what_counts_all_values_is_not_local():
    ground = metric(relief())
    for name, given in (("classify", {"rules": "natural"}), ("landform", {})):
        kind = KINDS[name]
        inputs = inputs_for(kind, ground, as_is(ground))
        assert run_partly(kind, kind.checked(given), inputs, PARTS[0], silent()) is None
    kind = KINDS["fill_depressions"]
    assert (
        run_partly(kind, kind.checked({}), inputs_for(kind, ground, as_is(ground)), PARTS[0], silent())
        is None
    )


def test_grids_that_do_not_lie_cell_on_cell_are_left_to_the_whole_run():
    kind, ground = KINDS["difference"], metric(relief())
    other = metric(relief(3, 40, 50), 5.0, 5.0)
    assert run_partly(kind, kind.checked({}), {"first": ground, "second": other}, PARTS[0], silent()) is None
