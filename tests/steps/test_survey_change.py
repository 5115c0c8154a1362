"""Change between two surveys: known bodies, offsets, intervals over seeded surveys, the demo's slip, bad input."""

import numpy as np
import pytest
import shapely

from moss_step.model.errors import MossError
from moss_step.model.frame import Frame
from moss_step.model.progress import silent
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.units import FOOT, METRE
from moss_step.science.earthwork.change import least_detectable, offset_of, volume_error
from moss_step.steps.catalogue import catalogue
from moss_step.study.engine import run_declared

UTM = "EPSG:32628"
FRAME = Frame(120, 100, 0.0, 60.0, 0.6, 0.5, UTM)
X = FRAME.x0 + (np.arange(100) + 0.5) * 0.6
Y = (FRAME.y0 - (np.arange(120) + 0.5) * 0.5)[:, None]
GROUND = 300.0 + 8.0 * np.sin(X / 9.0) + 6.0 * np.cos(Y / 7.0)
SCAR = np.maximum(1.0 - ((X - 20.0) / 10.0) ** 2 - ((Y - 40.0) / 12.0) ** 2, 0.0)
HEAP = np.maximum(1.0 - ((X - 42.0) / 8.0) ** 2 - ((Y - 18.0) / 9.0) ** 2, 0.0)
GONE, COME = 2.0 * np.pi / 2.0 * 10.0 * 12.0, 1.5 * np.pi / 2.0 * 8.0 * 9.0
"""Caps of paraboloids: half of base and height (mathematics)."""
STAYED = Shapes(np.array([shapely.box(30, 40, 60, 60), shapely.box(0, 0, 25, 20)], object), {}, UTM)
MOVED = GROUND - 2.0 * SCAR + 1.5 * HEAP


def grid(values, unit=METRE, frame=FRAME):
    return Surface(np.asarray(values) / unit.factor, frame, unit)


def run(settings, before, after, **inputs):
    return run_declared(
        catalogue()["survey_change"], settings, {"before": before, "after": after, **inputs}, silent()
    )


def found(outcome):
    return {f.name: float(f.value) for f in outcome.findings}


@pytest.mark.parametrize("unit", [METRE, FOOT])
def test_what_went_and_came_is_what_it_was(unit):
    told = found(run({"error_before": 0.0, "error_after": 0.0}, grid(GROUND), grid(MOVED, unit)))
    assert told["lowered"] == pytest.approx(GONE, rel=0.01) and told["raised"] == pytest.approx(
        COME, rel=0.01
    )
    assert told["net_change"] == pytest.approx(COME - GONE, rel=0.02)
    assert told["lowered_area"] == pytest.approx(np.pi * 120.0, rel=0.03)


def test_the_other_way_round_lowered_is_raised():
    there, back = (
        found(run({}, *pair)) for pair in ((grid(GROUND), grid(MOVED)), (grid(MOVED), grid(GROUND)))
    )
    assert there["lowered"] == pytest.approx(back["raised"]) and there["raised"] == pytest.approx(
        back["lowered"]
    )


def test_ground_that_did_not_move_shows_no_change_in_95_of_100_cells():
    """Two hundred seeded surveys of the same ground: the share of cells that count as changed is one in twenty."""
    shares = []
    for seed in range(200):
        rng = np.random.default_rng(seed)
        before, after = (GROUND + rng.normal(0.0, 0.05, GROUND.shape) for _ in range(2))
        told = found(run({"error_before": 0.05, "error_after": 0.05}, grid(before), grid(after)))
        shares.append(told["below_share"])
    assert np.mean(shares) == pytest.approx(0.95, abs=0.003)


@pytest.mark.parametrize("reach", [0.0, 4.0])
def test_intervals_hold_the_truth_in_about_95_of_100_surveys(reach):
    """Errors of their own in each cell, and errors that are alike within 4 m (a moving mean of noise)."""
    from scipy.ndimage import uniform_filter

    inside, area = 0, Shapes(np.array([shapely.box(5, 20, 55, 58)], object), {}, UTM)
    truth = found(run({"error_before": 0.0, "error_after": 0.0}, grid(GROUND), grid(MOVED), area=area))
    for seed in range(200):
        rng = np.random.default_rng(1000 + seed)
        noise = rng.normal(0.0, 1.0, (2, *GROUND.shape))
        if reach:
            noise = np.stack([uniform_filter(n, (7, 6), mode="wrap") * np.sqrt(42.0) for n in noise])
        before, after = GROUND + 0.05 * noise[0], MOVED + 0.05 * noise[1]
        asked = {"error_before": 0.05, "error_after": 0.05, "too_small": "counted", "reach": reach}
        told = found(run(asked, grid(before), grid(after), area=area))
        inside += abs(told["net_change"] - truth["net_change"]) <= told["net_error"]
    assert inside >= 182, "of 200"


@pytest.mark.parametrize(("way", "given"), [
    ("mean", {"up": 0.4}), ("tilt", {"up": 0.2, "tilt": 0.01}), ("shift", {"up": 0.3, "east": 0.45, "north": -0.3}),
])  # fmt: skip
def test_an_offset_is_told_on_ground_that_stayed_and_taken_out(way, given):
    def at(x, y):
        ground = 300.0 + 8.0 * np.sin(x / 9.0) + 6.0 * np.cos(y / 7.0)
        scar = np.maximum(1.0 - ((x - 20.0) / 10.0) ** 2 - ((y - 40.0) / 12.0) ** 2, 0.0)
        return (
            ground
            - 2.0 * scar
            + 1.5 * np.maximum(1.0 - ((x - 42.0) / 8.0) ** 2 - ((y - 18.0) / 9.0) ** 2, 0.0)
        )

    later = (
        at(X - given.get("east", 0.0), Y - given.get("north", 0.0)) + given["up"] + given.get("tilt", 0.0) * X
    )
    asked = {"error_before": 0.02, "error_after": 0.02}
    wrong = found(run(asked, grid(GROUND), grid(later), stable=STAYED))
    told = found(run({**asked, "offset": way}, grid(GROUND), grid(later), stable=STAYED))
    assert abs(wrong["lowered"] - GONE) > 2 * abs(told["lowered"] - GONE)
    assert told["lowered"] == pytest.approx(GONE, rel=0.03) and told["raised"] == pytest.approx(
        COME, rel=0.03
    )
    if way == "shift":
        assert told["offset_east"] == pytest.approx(0.45, abs=0.03)
        assert told["offset_north"] == pytest.approx(-0.3, abs=0.03)


def test_a_shift_of_several_cells_is_found_round_by_round():
    """5 cells to the west and 4 to the north: far beyond where the ground is straight."""

    def at(x, y):
        return 300.0 + 8.0 * np.sin(x / 9.0) + 6.0 * np.cos(y / 7.0)

    later = at(X + 3.0, Y - 2.0) + 0.5
    asked = {"error_before": 0.02, "error_after": 0.02, "offset": "shift"}
    told = found(run(asked, grid(GROUND), grid(later), stable=STAYED))
    assert told["offset_east"] == pytest.approx(-3.0, abs=0.05)
    assert told["offset_north"] == pytest.approx(2.0, abs=0.05) and told["offset_up"] == pytest.approx(
        0.5, abs=0.02
    )


def test_a_shift_is_told_in_metres_of_the_ground_whatever_the_system_of_the_earlier_survey():
    """The earlier survey in degrees: places carried by pyproj, the shift still in metres east and north."""
    from moss_step.model.frame import carried

    west, south = 500_000.0, 7_200_000.0
    frame = Frame(120, 100, west, south + 60.0, 0.6, 0.5, UTM)
    lon, lat = carried(UTM, "EPSG:4326", np.array([west - 5, west + 65]), np.array([south - 5, south + 65]))
    degrees = Frame(
        400,
        400,
        float(lon[0]),
        float(lat[1]),
        float(np.ptp(lon)) / 400,
        float(np.ptp(lat)) / 400,
        "EPSG:4326",
    )
    u, v = np.meshgrid(
        degrees.x0 + (np.arange(400) + 0.5) * degrees.dx, degrees.y0 - (np.arange(400) + 0.5) * degrees.dy
    )
    x, y = (a.reshape(400, 400) for a in carried("EPSG:4326", UTM, u.ravel(), v.ravel()))

    def at(x, y):
        return 300.0 + 8.0 * np.sin(x / 9.0) + 6.0 * np.cos(y / 7.0)

    before = Surface(at(x - west, y - south), degrees, METRE)
    after = Surface(at(X - 1.2, Y + 0.8), frame, METRE)
    stayed = Shapes(np.array([shapely.box(west, south, west + 60, south + 60)], object), {}, UTM)
    told = found(run({"offset": "shift"}, before, after, stable=stayed))
    assert told["offset_east"] == pytest.approx(1.2, abs=0.03)
    assert told["offset_north"] == pytest.approx(-0.8, abs=0.03)
    assert told["lowered"] + told["raised"] < 1.0


def test_the_slip_of_the_demo_is_what_it_is_known_to_be():
    from moss_step.demo import DATA
    from moss_step.demo.lidar import before_slip, slip_volumes
    from moss_step.formats.raster import read_surface

    after = read_surface(DATA / "harrow_ground.tif")
    after = after[0] if isinstance(after, tuple) else after
    told = found(run({"error_before": 0.0, "error_after": 0.0}, before_slip(after), after))
    gone, come = slip_volumes()
    assert told["net_change"] == pytest.approx(come - gone, abs=0.005 * gone)
    assert 0.9 * gone < told["lowered"] < gone, "debris lies over a part of the scar"


def test_errors_by_their_formulas():
    assert least_detectable(0.1, 0.0, 0.95) == pytest.approx(1.959964 * 0.1, rel=1e-6)
    assert volume_error(0.1, 100.0, 1.0, 0.0) == pytest.approx(0.1 * 10.0)
    assert volume_error(0.1, 1000.0, 1.0, 10.0) == pytest.approx(0.1 * np.sqrt(1000.0 * np.pi * 100.0 / 5.0))


@pytest.mark.parametrize(("settings", "words"), [
    ({"before_date": "2026-05-01", "after_date": "2026-04-01"}, "Swap the surveys"),
    ({"before_date": "yesterday"}, "no date"),
])  # fmt: skip
def test_dates_are_held_to(settings, words):
    with pytest.raises(MossError, match=words):
        run(settings, grid(GROUND), grid(MOVED))


def test_surveys_apart_and_too_little_stable_ground_are_refused():
    far = Frame(120, 100, 90_000.0, 60.0, 0.6, 0.5, UTM)
    with pytest.raises(MossError, match="do not overlap"):
        run({}, grid(GROUND, frame=far), grid(MOVED))
    small = Shapes(np.array([shapely.box(1, 1, 3, 3)], object), {}, UTM)
    with pytest.raises(MossError, match="cells of ground that stayed"):
        run({"offset": "mean"}, grid(GROUND), grid(MOVED), stable=small)
    plane = 0.1 * X + 0.0 * Y
    with pytest.raises(MossError, match="too flat"):
        offset_of(plane, plane + 0.1, np.ones(plane.shape, bool), FRAME, "shift")
