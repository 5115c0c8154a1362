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
from moss_step.science.earthwork.change import least_detectable, volume_error
from moss_step.science.earthwork.offsets import offset_of
from moss_step.steps.catalogue import catalogue
from moss_step.study.declared import run_declared

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
    assert volume_error(0.1 * 100.0, 0.01 * 100.0, 1.0, 0.0) == pytest.approx(0.1 * 10.0)
    assert volume_error(100.0, 10.0, 1.0, 10.0) == pytest.approx(0.1 * np.sqrt(1000.0 * np.pi * 100.0 / 5.0))
    assert volume_error(0.5, 0.25, 1.0, 1000.0) == 0.5, "never more than if all were alike"


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


# --- what stands beside


def test_what_is_too_small_to_tell_is_shown_apart():
    told = run({"error_before": 0.2, "error_after": 0.2}, grid(GROUND), grid(MOVED))
    said, sure = found(told), told.beside["surely"]().value
    assert [c.name for c in sure.classes] == ["too small to tell", "lowered", "raised"]
    off = MOVED - GROUND
    least = said["least_detectable"]
    assert np.array_equal(sure.codes, np.where(np.abs(off) < least, 0, np.where(off < 0, 1, 2)))
    cell = 0.3
    small = np.abs(off) < least
    assert said["small_lowered"] == pytest.approx(-off[small & (off < 0)].sum() * cell)
    assert said["lowered"] + said["small_lowered"] == pytest.approx(-off[off < 0].sum() * cell)


def test_each_patch_has_its_own_volume_and_what_that_may_be_off():
    told = run({"error_before": 0.02, "error_after": 0.02}, grid(GROUND), grid(MOVED))
    said, patches = found(told), told.beside["patches"]().value
    assert len(patches) == 2 and list(patches.columns["change"]) == ["lowered", "raised"]
    assert patches.columns["volume_m3"].tolist() == pytest.approx([said["lowered"], said["raised"]])
    assert patches.columns["give_or_take_m3"].tolist() == pytest.approx(
        [said["lowered_error"], said["raised_error"]]
    )
    assert patches.columns["deepest_m"] == pytest.approx([2.0, 1.5], rel=0.02)
    assert shapely.area(patches.geometry) == pytest.approx(patches.columns["area_m2"], rel=1e-6)
    large = run({"error_before": 0.02, "error_after": 0.02, "least_patch": 300.0}, grid(GROUND), grid(MOVED))
    assert len(large.beside["patches"]().value) == 1


def test_lines_of_equal_change_lie_where_the_change_is_that():
    lines = run({"error_before": 0.0, "error_after": 0.0}, grid(GROUND), grid(MOVED)).beside["lines"]().value
    assert set(np.round(lines.columns["change_m"] % 0.5, 6)) <= {0.0, 0.5}
    deep = lines.geometry[lines.columns["change_m"] == -1.0]
    xy = shapely.get_coordinates(deep)
    r = ((xy[:, 0] - 20.0) / 10.0) ** 2 + ((xy[:, 1] - 40.0) / 12.0) ** 2
    assert r == pytest.approx(np.full(len(r), 0.5), abs=0.02)  # half of the depth of a cap of 2 m


def test_errors_by_place_count_where_they_are():
    even = run({"error_before": 0.1, "error_after": 0.1}, grid(GROUND), grid(MOVED))
    same = {n: grid(np.full(GROUND.shape, 0.1)) for n in ("spread_before", "spread_after")}
    alike = run({}, grid(GROUND), grid(MOVED), **same)
    for name, value in found(even).items():
        assert found(alike)[name] == pytest.approx(value, rel=1e-9), name
    rough = np.where(X < 30.0, 5.0, 0.05) + 0.0 * Y
    split = found(run({"error_after": 0.0}, grid(GROUND), grid(MOVED), spread_before=grid(rough)))
    assert split["lowered"] == 0.0, "the scar lies where nothing can be told"
    assert split["raised"] == pytest.approx(COME, rel=0.05)
    with pytest.raises(MossError, match="below 0"):
        run({}, grid(GROUND), grid(MOVED), spread_after=grid(GROUND - 400.0))


@pytest.mark.parametrize("reach", [0.0, 6.0])
def test_simulated_surveys_agree_with_what_is_reckoned(reach):
    asked = {
        "too_small": "counted",
        "reach": reach,
        "simulated": 400,
        "error_before": 0.1,
        "error_after": 0.1,
    }
    area = Shapes(np.array([shapely.box(5, 20, 55, 58)], object), {}, UTM)
    told = found(run(asked, grid(GROUND), grid(MOVED), area=area))
    assert told["net_simulated"] == pytest.approx(told["net_error"], rel=0.15)
    assert told == found(run(asked, grid(GROUND), grid(MOVED), area=area)), "the same seed, the same surveys"
    other = found(run({**asked, "seed": 2}, grid(GROUND), grid(MOVED), area=area))
    assert other["net_simulated"] != told["net_simulated"]


def test_ground_that_stayed_is_proposed_where_the_change_is_like_most():
    noise = np.random.default_rng(3).normal(0.0, 0.03, GROUND.shape)
    later = MOVED + 0.4 + noise
    told = run({"offset": "mean", "stayed": "proposed"}, grid(GROUND), grid(later))
    assert found(told)["offset_up"] == pytest.approx(0.4, abs=0.01)
    stayed = told.beside["stayed"]().value.codes
    assert not stayed[np.abs(MOVED - GROUND) > 0.5].any() and stayed[MOVED == GROUND].mean() > 0.99
    with pytest.raises(MossError, match="none is given"):
        run({"offset": "mean"}, grid(GROUND), grid(later))


def test_other_references_of_height_are_refused_or_taken_out():
    one, other = (Frame(120, 100, 0.0, 60.0, 0.6, 0.5, f"{UTM}+{code}") for code in (5773, 3855))
    before, after = grid(GROUND, frame=one), grid(MOVED + 0.7, frame=other)
    with pytest.raises(MossError, match="EGM96 height and EGM2008 height"):
        run({}, before, after)
    told = run({"offset": "mean", "stayed": "proposed"}, before, after)
    assert found(told)["offset_up"] == pytest.approx(0.7, abs=0.05)
    assert any("taken out" in w for w in told.warnings)


def test_the_record_of_a_change_names_both_surveys_and_their_files(tmp_path):
    from moss_step.formats.raster_write import write_surface
    from moss_step.study.direct import do_step

    for name, values in (("spring", GROUND), ("autumn", MOVED)):
        write_surface(tmp_path / f"{name}.tif", grid(values), name)
    given = {
        "before": str(tmp_path / "spring.tif"),
        "after": str(tmp_path / "autumn.tif"),
        "before_date": "2026-03-02",
        "after_date": "2026-10-09",
    }
    rows = do_step(catalogue()["survey_change"], given, silent(), ("record",))["record"][0].value.columns
    said = dict(zip(rows["what"], rows["value"], strict=True))
    assert said["survey before"] == "spring" and said["survey after"] == "autumn"
    assert len(said["survey before, content of spring.tif (BLAKE3)"]) == 64
    assert said["before date"] == "2026-03-02" and said["after date"] == "2026-10-09"
    assert said["error before"] == "0.05"
