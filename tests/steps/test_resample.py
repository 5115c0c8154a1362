"""Resampling to the cells of a grid that states no reference system, as the campaign found."""

from dataclasses import replace

import numpy as np
import pytest

from moss_step.model.progress import silent
from moss_step.model.surface import Surface
from moss_step.steps.catalogue import step_kind
from moss_step.study.declared import run_declared
from tests.grounds import holed, in_degrees, metric, relief

GROUNDS = {
    "metres, high cells, mirrored": lambda: metric(holed(relief(3, 40, 50))[:, ::-1], 2.0, 8.0),
    "degrees at 65 north": lambda: in_degrees(relief(3, 40, 50), 65.0),
}


@pytest.mark.parametrize("on", GROUNDS)
def test_a_grid_without_a_system_is_taken_for_that_of_the_surface(on: str) -> None:
    ground: Surface = GROUNDS[on]()
    frame = replace(ground.frame.part(slice(3, 30), slice(5, 40)), dx=ground.frame.dx * 1.7)
    stated = Surface(np.zeros(frame.shape, np.float32), frame)
    unstated = Surface(stated.values, replace(frame, crs=None))
    settings = {"resampling": "bilinear"}
    expected, found = (
        run_declared(step_kind("resample"), settings, {"surface": ground, "like": like}, silent())
        for like in (stated, unstated)
    )
    np.testing.assert_array_equal(found.value.values, expected.value.values)
    assert found.value.frame == expected.value.frame
    assert np.isfinite(found.value.values).any()
    assert [w for w in found.warnings if "states no reference system" in w]
    assert not [w for w in expected.warnings if "states no reference system" in w]
