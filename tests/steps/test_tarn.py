"""The demo's tarn, whose true bed is known: its volume lies within what kriging states, at the confidence that it states."""

import json

import numpy as np
import pytest
import shapely

from moss_step.demo import DATA
from moss_step.demo.lidar import TARN
from moss_step.demo.soundings import NOISE, SYSTEM, depth_at, shore, sounded, true_volume
from moss_step.formats.vector import read_shapes
from moss_step.model.progress import silent
from moss_step.model.shapes import Shapes
from moss_step.science.interpolate.plane import Plane
from moss_step.science.interpolate.surfaces import Choice, Interpolator, frame_around
from moss_step.science.laying import cells_inside
from moss_step.steps.between import InterpolateSettings
from moss_step.steps.catalogue import catalogue
from moss_step.steps.places import gathered
from moss_step.study.declared import run_declared

SEEDS = 50
AREA = np.pi * TARN[2] * TARN[3]


def run(kind, settings, **inputs):
    return run_declared(catalogue()[kind], settings, inputs, silent())


def points_of(held):
    places = np.asarray(shapely.points(held["x"], held["y"]))
    return Shapes(places, {"depth": held["depth"]}, SYSTEM, {"depth": "m"})


def test_the_files_hold_what_the_truth_says():
    truth = json.loads((DATA / "harrow_tarn_truth.json").read_text())
    assert truth["volume_m3"] == pytest.approx(true_volume(), abs=0.1)
    table = run("open_table", {"source": str(DATA / "harrow_soundings.csv"), "crs": SYSTEM}).value
    xy = shapely.get_coordinates(table.geometry)
    off = table.columns["depth_m"] - depth_at(*xy.T)
    assert np.std(off) == pytest.approx(NOISE, rel=0.15)
    assert shapely.area(read_shapes(DATA / "harrow_tarn.gpkg").geometry)[0] == pytest.approx(AREA, rel=1e-3)


def test_the_volume_lies_within_what_kriging_states():
    """Of 50 surveys 95 in 100 are asked for; 43 are what chance leaves of these in 99 of 100 trials."""
    true, within, area = true_volume(), 0, shore()
    frame = frame_around(area.box, 0.5, SYSTEM)
    rows, cols = np.nonzero(cells_inside(frame, area))
    x, y = frame.x0 + (cols + 0.5) * frame.dx, frame.y0 - (rows + 0.5) * frame.dy
    for seed in range(SEEDS):
        got = gathered(InterpolateSettings(), {"points": points_of(sounded(seed)), "area": area}, 0.0)
        made = Interpolator(got.held, Plane.of(frame), Choice())
        within += abs(made.at(x, y).mean() * AREA - true) <= 1.96 * made.mean_error(x, y) * AREA
    assert within >= 43, f"{within} of {SEEDS}"
