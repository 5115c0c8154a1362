"""The earth that was moved in the demo: made again bit for bit, and the methods find what is known to be true."""

import json

import numpy as np
import pytest
import shapely

from moss_step.demo import DATA
from moss_step.demo.earth import ERROR, HEAP, HEAP_VOLUME, SHIFT, write_earth
from moss_step.formats.las import read_cloud
from moss_step.formats.raster import read_surface
from moss_step.formats.vector import read_shapes
from moss_step.model.progress import silent
from moss_step.model.shapes import Shapes
from moss_step.steps.catalogue import catalogue
from moss_step.study.declared import run_declared


@pytest.fixture(scope="module")
def truth():
    return json.loads((DATA / "harrow_earth_truth.json").read_text())


def found(kind, settings, **inputs):
    return {f.name: f.value for f in run_declared(catalogue()[kind], settings, inputs, silent()).findings}


def around_heap(clear=3.0):
    """An outline on the slope, some metres beyond the heap."""
    x, y, a, b, _, turn = HEAP
    t = np.linspace(0.0, 2.0 * np.pi, 24, endpoint=False)
    u, v = (a + clear) * np.cos(t), (b + clear) * np.sin(t)
    c, s = np.cos(turn), np.sin(turn)
    return np.column_stack([x + u * c - v * s, y + u * s + v * c])


def test_it_is_made_again_bit_for_bit(tmp_path):
    ground, _ = read_surface(DATA / "harrow_ground.tif")
    for path in write_earth(tmp_path, ground):
        assert path.read_bytes() == (DATA / path.name).read_bytes(), path.name


def test_the_shift_between_both_surveys_and_the_volumes_of_the_slip_are_found(truth):
    before, after = (read_surface(DATA / f"harrow_slip_{n}.tif")[0] for n in ("before", "after"))
    slip = read_shapes(DATA / "harrow_slip.gpkg")
    asked = {"offset": "shift", "stayed": "proposed", "error_before": ERROR, "error_after": ERROR}
    told = found("survey_change", asked, before=before, after=after, area=slip)
    assert told["offset_east"] == pytest.approx(SHIFT[0], abs=0.03)
    assert told["offset_north"] == pytest.approx(SHIFT[1], abs=0.03)
    assert told["offset_up"] == pytest.approx(SHIFT[2], abs=0.005)
    # Debris lies over the foot of the scar: what went and came there is less by the same.
    lap = truth["slipped_away_m3"] - told["lowered"]
    assert 0.0 < lap < 0.12 * truth["slipped_away_m3"]
    assert told["raised"] + lap == pytest.approx(truth["came_below_m3"], rel=0.03)
    raw = found(
        "survey_change", {"error_before": ERROR, "error_after": ERROR}, before=before, after=after, area=slip
    )
    assert abs(raw["net_change"]) > 10.0 * abs(told["net_change"])


def test_the_heap_has_its_volume_against_its_own_edge_as_a_cloud(truth):
    cloud, _ = read_cloud(DATA / "harrow_heap.laz")
    outline = Shapes(np.array([shapely.Polygon(around_heap())], object), {}, cloud.crs)
    told = found("cut_fill", {"against": "edge"}, surface=cloud, area=outline)
    assert truth["heap_m3"] == pytest.approx(HEAP_VOLUME, abs=1e-3)
    assert told["cut"] == pytest.approx(truth["heap_m3"], rel=0.01) and told["fill"] < 0.01 * told["cut"]


def test_the_pad_for_the_barn_balances():
    ground, _ = read_surface(DATA / "harrow_ground.tif")
    told = found("pad", {}, surface=ground, area=read_shapes(DATA / "harrow_barn.gpkg"))
    assert abs(told["net"]) < 1e-3 * (told["cut"] + told["fill"]) and told["bed_area"] == pytest.approx(
        540.0, rel=2e-3
    )
