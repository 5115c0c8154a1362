"""Segments picked by a place, on every ground; and figures of things whose heights above the ground are not known."""

import warnings
from dataclasses import replace

import numpy as np
import pytest

from moss_step.model.cloud import Cloud
from moss_step.science.points.outlines import buildings, centre_lines
from moss_step.science.points.picking import Segmented
from moss_step.science.sample import scattered
from tests.science.test_points_on_any_ground import PLAIN, TOLD

EAST = np.array([10.0, 13.5, 20.0, 20.0, 40.0])
NORTH = np.array([10.0, 10.0, 20.0, 20.0, 40.0])
HEIGHT = np.array([2.0, 2.0, 3.0, 9.0, 1.0])
NUMBERS = np.array([1, 2, 3, 4, 0])


@pytest.mark.parametrize("name", ["metres", *TOLD])
def test_a_segment_is_picked_within_two_metres_on_every_ground(name: str) -> None:
    told = {"metres": PLAIN, **TOLD}[name]
    cloud = told.cloud(EAST, NORTH, HEIGHT)
    held = Segmented.of(replace(cloud, attributes={"segment": NUMBERS}))
    assert held is not None

    def at(east: float, north: float, *height: float) -> int:
        x, y = told.places(east, north)
        return held.at((x, y, *(h / told.unit.factor for h in height)))

    assert at(10.5, 10.5) == 1 and at(13.0, 9.0) == 2
    assert at(11.6, 10.0) == 1 and at(11.9, 10.0) == 2  # the nearer one
    assert at(10.0, 12.1) == 0 and at(10.0, 11.9) == 1  # beyond two metres there is none
    assert at(40.0, 40.0) == 0  # a point without a segment
    assert at(20.0, 20.0, 3.5) == 3 and at(20.0, 20.0, 8.0) == 4 and at(20.0, 20.0, 6.0) == 0


def test_points_without_segments_have_none_to_pick() -> None:
    assert Segmented.of(Cloud(EAST, NORTH, HEIGHT)) is None


def test_things_above_unknown_ground_tell_no_height_and_still_have_their_shape() -> None:
    flat, above = scattered(20), np.full(400, np.nan)
    with warnings.catch_warnings():
        warnings.simplefilter("error")
        found = buildings(flat, above, 1.0, 50.0, straight=True)
        lines = centre_lines(flat.part(flat.y < 3.0), above[flat.y < 3.0], 2.0, 3.0, 5.0)
    assert found.geometry[0].area == pytest.approx(400.0, rel=0.1)
    assert np.isnan(found.columns["height_m"]).all() and np.isfinite(found.columns["roof_slope"]).all()
    assert len(lines.geometry) and np.isnan(lines.columns["highest_m"]).all()
    above[:100] = 4.0
    partly = buildings(flat, above, 1.0, 50.0, straight=True)
    assert partly.columns["mean_height_m"].tolist() == [4.0]
