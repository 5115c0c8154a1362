"""Bounds by construction: no setting is without limits, whatever its step does with it."""

import json
import math

import numpy as np
import pytest

from moss_step.model.errors import AskedWronglyError
from moss_step.steps.catalogue import catalogue
from moss_step.steps.declare import LEAST, MOST
from tests.conftest import surface
from tests.steps.test_any_ground import KINDS, settings_for, value_for

GROUND = surface((np.random.default_rng(2).normal(size=(12, 14)).cumsum(0).cumsum(1)).astype(np.float32))
NUMBERS = [
    (kind, name)
    for kind, step in sorted(catalogue().items())
    for name, field in step.settings.listed().items()
    if field.annotation in (float, int, float | None, int | None) and name not in step.settings.marks
]


@pytest.mark.parametrize(("kind", "name"), NUMBERS)
def test_no_number_is_without_limits(kind, name):
    for value in (math.nan, math.inf, -math.inf, MOST * 1.001, -MOST * 1.001, LEAST / 2, 10**400):
        check_it_is_refused(kind, name, value)


def check_it_is_refused(kind, name, value):
    if (
        isinstance(value, float)
        and abs(value) < 1
        and catalogue()[kind].settings.listed()[name].annotation in (int, int | None)
    ):
        value = 0.5
    step = catalogue()[kind]
    with pytest.raises(AskedWronglyError) as told:
        step.checked({**settings_for(step, GROUND), name: value})
    assert name in str(told.value)


def test_what_stands_for_no_data_may_be_any_number():
    for value in (-3.4028234663852886e38, -1.7976931348623157e308, 1e-30):
        assert catalogue()["open_grid"].checked({"source": "a.tif", "no_data": value}).no_data == value


@pytest.mark.parametrize("kind", ["position", "landform", "relief", "openness"])
@pytest.mark.parametrize("radius", [1e5, 2.0**31, 9e14])
def test_a_radius_beyond_the_ground_takes_what_the_ground_has(kind, radius):
    """Answers at once, and as a radius that already covers the ground does."""
    from moss_step.model.progress import silent
    from moss_step.study.declared import run_declared

    step = KINDS[kind]
    inputs = {s.name: value_for(s, GROUND) for s in step.inputs if not s.optional}
    at = {"small": 4.0, "large": radius} if kind == "landform" else {"radius": radius}
    wide = {"small": 4.0, "large": 5e4} if kind == "landform" else {"radius": 5e4}
    far, near = (
        run_declared(step, {**settings_for(step, GROUND), **s}, dict(inputs), silent()).value
        for s in (at, wide)
    )
    grids = [getattr(v, "values", getattr(v, "codes", None)) for v in (far, near)]
    np.testing.assert_allclose(*grids, rtol=1e-5, atol=1e-5)


@pytest.mark.parametrize("text", ["\ud800", "a\0b"])
def test_texts_that_are_none_are_refused(text):
    for kind, name in (
        ("viewshed", "own"),
        ("choose_shapes", "where"),
        ("choose_shapes", "rows"),
        ("basins", "names"),
    ):
        if name in KINDS[kind].settings.listed():
            with pytest.raises(AskedWronglyError):
                KINDS[kind].checked({**settings_for(KINDS[kind], GROUND), name: text})


def test_a_line_that_ends_far_off_the_ground_is_refused_at_once():
    from moss_step.model.errors import MossError
    from moss_step.model.progress import silent
    from moss_step.study.declared import run_declared

    with pytest.raises(MossError, match="no ground"):
        run_declared(KINDS["sight_line"], {"ends": [1.0, 1.0, 1e11, 1e11]}, {"dem": GROUND}, silent())


def test_more_observers_than_can_be_looked_from_are_refused():
    from moss_step.steps.observers import MOST_OBSERVERS, check_count

    check_count(MOST_OBSERVERS)
    with pytest.raises(AskedWronglyError, match="observers"):
        check_count(MOST_OBSERVERS + 1.0)


def test_lists_are_written_as_json_where_a_setting_takes_them():
    """As the command line and a shell script say what a study holds."""
    rules = [
        {"low": None, "high": 3.0, "code": 1, "name": "Level", "color": "#112233"},
        {"low": 3.0, "high": None, "code": 2, "name": "Steep [2]", "color": "#445566"},
    ]
    classify, profile, opened = (catalogue()[k] for k in ("classify", "profile", "open_grid"))
    assert classify.checked({"rules": json.dumps(rules)}) == classify.checked({"rules": rules})
    assert profile.checked({"line": "[1, 2, 3, 4]"}) == profile.checked({"line": [1, 2, 3, 4]})
    assert opened.checked({"source": "[1].tif"}).source == "[1].tif"  # text stays text
    assert opened.checked({"source": "[1]"}).source == "[1]"
    for text in ('[{"low": 1', "[1, 2", "[" * 100_000, '{"low": 1}', '["a"]'):
        with pytest.raises(AskedWronglyError, match="rules"):
            classify.checked({"rules": text})
