"""Trials with another variogram, and nested ones, against the whole step."""

import numpy as np
import pytest

from moss_step.model.errors import MossError
from moss_step.science.interpolate.variogram import Structure, Variogram
from moss_step.steps.between import InterpolateSettings
from moss_step.steps.places import choice_of
from moss_step.steps.trials import coarse, trial_of
from tests.steps.test_interpolate import run, soundings


def settings(**given):
    return InterpolateSettings.model_validate({"column": "depth", "cell": 10.0, **given})


def test_a_trial_gives_what_the_step_does():
    points = soundings(200, 0.2)
    trial = trial_of(settings(variogram="spherical"), {"points": points})
    model = trial.with_parts(0.5, 14.0, 180.0)
    assert (model.nugget, model.sill, model.structures[0].range) == (0.5, pytest.approx(14.0), 180.0)
    whole = run(
        {"cell": 10.0, "variogram": "spherical", "nugget": 0.5, "sill": 14.0, "range": 180.0}, points=points
    ).value
    tried = trial.surface(model)
    assert tried.frame == whole.frame
    assert np.allclose(tried.values, whole.values, atol=1e-4, equal_nan=True)


def test_stated_parts_are_those_a_trial_begins_with():
    trial = trial_of(settings(nugget=0.3, range=99.0), {"points": soundings(200, 0.2)})
    assert trial.model.nugget == 0.3 and trial.model.structures[0].range == 99.0


def test_of_many_places_and_cells_some_stand_for_all():
    trial = trial_of(settings(cell=1.0), {"points": soundings(5000, 0.1)})
    assert trial.of == 5000 and len(trial.base.held) <= 900 and trial.wanted.size <= 3600
    assert coarse(trial.frame) == trial.frame


def test_a_nested_variogram_adds_its_structures():
    """Two structures and a nugget: the sum of their curves, worked out by the formulas of each."""
    nested = {
        "variogram": "spherical", "sill": 5.0, "range": 80.0, "nugget": 1.0, "second_shape": "exponential",
        "second_sill": 3.0, "second_range": 300.0,
    }  # fmt: skip
    model = choice_of(settings(**nested)).model
    assert model == Variogram(1.0, (Structure("spherical", 4.0, 80.0), Structure("exponential", 3.0, 300.0)))
    h = np.array([10.0, 50.0, 200.0])
    r = np.minimum(h / 80.0, 1.0)
    by_hand = 1.0 + 4.0 * (1.5 * r - 0.5 * r**3) + 3.0 * (1.0 - np.exp(-3.0 * h / 300.0))
    assert np.allclose(model.semivariance(h), by_hand)
    made = run({"cell": 10.0, **nested}, points=soundings(150, 0.2))
    assert {f.name: f.value for f in made.findings}["sill"] == pytest.approx(8.0)
    chart = made.beside["variogram"]().value
    at = chart.columns["distance"] > 0
    assert chart.columns["model"][at][-1] <= 8.0


@pytest.mark.parametrize("left_out", ["second_sill", "second_range", "sill", "range"])
def test_a_nested_variogram_is_stated_whole(left_out):
    given = {
        "variogram": "spherical", "sill": 5.0, "range": 80.0, "second_shape": "exponential",
        "second_sill": 3.0, "second_range": 300.0,
    }  # fmt: skip
    given.pop(left_out)
    with pytest.raises(MossError, match="stated whole"):
        choice_of(settings(**given))
