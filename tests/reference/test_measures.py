"""Curvature, ruggedness, position, hypsometry, contours and openness against sources outside the project."""

import math

import contourpy
import numpy as np
import pytest
import shapely
from numpy.testing import assert_allclose
from scipy import ndimage

from moss_step.model.errors import AskedWronglyError, MossError, StoppedError
from moss_step.model.progress import Progress
from moss_step.science.relief.contours import contours, levels_between, points_expected
from moss_step.science.relief.curvature import curvature
from moss_step.science.relief.hypsometry import hypsometry
from moss_step.science.relief.neighbourhood import RILEY_BOUNDS, roughness, ruggedness
from moss_step.science.relief.openness import openness
from moss_step.science.relief.position import landforms, local_relief, position
from tests.conftest import plane, surface


def dome(n: int, cell: float, radius: float):
    r, c = (np.mgrid[0:n, 0:n] - n // 2) * cell
    return surface(np.sqrt(np.maximum(radius**2 - r**2 - c**2, 0)), dx=cell)


def test_a_sphere_has_the_curvature_of_its_radius():
    """Every normal section of a sphere bends by 1/R; a dome is convex, so positive (mathematics)."""
    found = {k: curvature(dome(41, 1.0, 200.0), k).values for k in ("profile", "tangential", "mean")}
    for kind, values in found.items():
        assert_allclose(values[8:18, 8:18], 1 / 200, rtol=0.02, err_msg=kind)


def test_a_cylinder_bends_across_and_not_along():
    """A cylinder along the columns bends by 1/R across and not at all along (mathematics)."""
    c = np.mgrid[0:30, 0:41][1].astype(float)
    values = np.sqrt(300.0**2 - (c - 20) ** 2)
    dem = surface(values, dx=1.0)
    slope_away = slice(28, 36)
    assert_allclose(curvature(dem, "profile").values[5:-5, slope_away], 1 / 300, rtol=0.02)
    assert_allclose(curvature(dem, "plan").values[5:-5, slope_away], 0, atol=2e-5)
    assert_allclose(curvature(dem, "mean").values[5:-5, slope_away], 1 / 600, rtol=0.02)


def test_a_saddle_bends_both_ways():
    """z = (x^2 - y^2) / 2a: at the middle the two principal curvatures cancel (mathematics)."""
    r, c = np.mgrid[-10:11, -10:11].astype(float)
    dem = surface((c**2 - r**2) / 200.0, dx=1.0)
    assert curvature(dem, "mean").values[10, 10] == pytest.approx(0, abs=1e-6)
    assert curvature(dem, "profile").values[10, 15] < 0 < curvature(dem, "profile").values[15, 10]


def test_planes_do_not_bend_and_edges_have_none():
    for kind in ("profile", "plan", "tangential", "mean"):
        values = curvature(plane(9, 9, 0.3, 0.1), kind).values
        assert_allclose(values[1:-1, 1:-1], 0, atol=1e-4)
        assert np.isnan(values[0]).all()
    with pytest.raises(MossError, match="at least 3 x 3"):
        curvature(plane(2, 5, 0, 0))


def test_ruggedness_equals_numpy_with_shifted_views(hills):
    """Riley, DeGloria & Elliot 1999: root of the summed squared differences; NumPy as a second implementation (library)."""
    z = hills.astype(np.float64)
    shifts = [(i, j) for i in (-1, 0, 1) for j in (-1, 0, 1) if (i, j) != (0, 0)]
    moved = np.stack([np.roll(z, s, (0, 1)) - z for s in shifts])
    inside = (slice(1, -1), slice(1, -1))
    dem = surface(hills)
    assert_allclose(ruggedness(dem).values[inside], np.sqrt((moved**2).sum(0))[inside], rtol=1e-4, atol=1e-4)
    assert_allclose(
        ruggedness(dem, "mean_absolute").values[inside], np.abs(moved).mean(0)[inside], rtol=1e-4, atol=1e-4
    )
    expected = ndimage.maximum_filter(z, 3) - ndimage.minimum_filter(z, 3)
    assert_allclose(roughness(dem).values[inside], expected[inside], rtol=1e-4, atol=1e-4)
    assert RILEY_BOUNDS == (80, 116, 161, 239, 497, 958)


def test_neighbours_that_are_missing_do_not_count():
    values = np.full((3, 3), 5.0)
    values[0, 0] = np.nan
    values[1, 1] = 7.0
    assert ruggedness(surface(values)).values[1, 1] == pytest.approx(math.sqrt(7 * 4 * 8 / 7))
    assert ruggedness(surface(values), "mean_absolute").values[1, 1] == 2.0
    assert roughness(surface(values)).values[1, 1] == 2.0


@pytest.mark.parametrize(("radius", "inner"), [(10.0, 0.0), (16.0, 6.0)])
def test_position_equals_a_mean_over_the_disk(hills, radius, inner):
    """Weiss 2001: height less the mean around, against scipy's convolution with the same disk (library)."""
    dem = surface(hills)
    reach = int(radius / 2)
    r, c = np.mgrid[-reach : reach + 1, -reach : reach + 1]
    disk = (r**2 + c**2 <= (radius / 2) ** 2).astype(float)
    if inner:
        disk -= r**2 + c**2 <= (inner / 2) ** 2
    mean = ndimage.convolve(hills.astype(float), disk / disk.sum())
    found = position(dem, radius, "ring" if inner else "disk", inner).values
    inside = (slice(reach, -reach), slice(reach, -reach))
    assert_allclose(found[inside], (hills - mean)[inside], atol=2e-3)


def test_position_over_a_large_disk_is_near_the_exact_one_and_turns_with_the_ground():
    """Against the mean over the exact disk by scipy.signal.fftconvolve (general library); the shape of the disk is the same when turned."""
    from scipy.signal import fftconvolve  # takes long to load

    rough = np.random.default_rng(8).normal(size=(300, 300)).cumsum(0).cumsum(1).astype(np.float32)
    radius = 150.0  # 75 cells: more than are taken exactly
    r, c = np.mgrid[-75:76, -75:76]
    disk = (r**2 + c**2 <= 75**2).astype(float)
    cells = fftconvolve(np.ones(rough.shape), disk, mode="same")
    exact = rough - fftconvolve(rough.astype(float), disk, mode="same") / cells
    found = position(surface(rough), radius).values
    assert np.sqrt(((found - exact) ** 2).mean()) < 0.01 * exact.std()
    assert_allclose(position(surface(rough.T.copy()), radius).values, found.T, rtol=1e-4, atol=1e-3)
    assert_allclose(
        position(surface(rough[::-1, ::-1].copy()), radius).values, found[::-1, ::-1], rtol=1e-4, atol=1e-3
    )


def test_standardised_position_is_in_deviations(hills):
    dem = surface(hills)
    found = position(dem, 10, standardised=True).values
    window = hills[40:51, 50:61].astype(float)
    r, c = np.mgrid[-5:6, -5:6]
    inside = window[r**2 + c**2 <= 25]
    assert found[45, 55] == pytest.approx((window[5, 5] - inside.mean()) / inside.std(), rel=1e-3)


def test_landforms_name_ridge_valley_and_plain():
    r, c = np.mgrid[0:120, 0:120].astype(float)
    dem = surface(30 * np.exp(-((c - 60) ** 2) / 50) + 0 * r, dx=5.0)
    found = landforms(dem, 25.0, 150.0)
    names = {e.code: e.name for e in found.classes}
    assert names[int(found.codes[60, 60])] in ("High ridge", "Midslope ridge")
    assert names[int(found.codes[60, 5])] == "Plain"
    with pytest.raises(AskedWronglyError, match="must be below"):
        landforms(dem, 100.0, 50.0)


def test_local_relief_is_the_range_of_the_square(hills):
    found = local_relief(surface(hills), 6.0).values
    window = hills[37:44, 47:54]
    assert found[40, 50] == pytest.approx(window.max() - window.min())


@pytest.mark.parametrize(("kind", "integral"), [("cone", 1 / 3), ("plane", 1 / 2), ("hemisphere", 2 / 3)])
def test_hypsometric_integrals_of_known_bodies(kind, integral):
    """Strahler 1952: cone 1/3, plane 1/2, hemisphere 2/3 (mathematics: volume over base times height)."""
    n = 401
    r, c = np.mgrid[0:n, 0:n] - n // 2
    d = np.hypot(r, c) / (n // 2)
    body = {"cone": 1 - d, "hemisphere": np.sqrt(np.maximum(1 - d**2, 0)), "plane": (c + n // 2) / (n - 1)}[
        kind
    ]
    values = np.where(d <= 1, body, np.nan) if kind != "plane" else body
    table, found = hypsometry(surface(values * 100))
    assert found == pytest.approx(integral, abs=0.004)
    under_curve = np.trapezoid(table.columns["area_share"], table.columns["height_share"])
    assert under_curve == pytest.approx(found, abs=0.01), (
        "Pike & Wilson 1971: the integral is the area under the curve"
    )
    with pytest.raises(MossError, match="no relief"):
        hypsometry(surface(np.ones((3, 3))))


def test_contours_equal_contourpys_and_lie_on_the_ground(hills):
    """contourpy traces the same lengths at each height (library)."""
    dem = surface(hills)
    made = contours(dem, 20.0, base=5.0)
    generator = contourpy.contour_generator(z=hills, line_type="Separate")
    for level in np.unique(made.columns["elevation"]):
        length = sum(np.hypot(*np.diff(line, axis=0).T).sum() for line in generator.lines(level)) * 2
        assert made.columns["length_m"][made.columns["elevation"] == level].sum() == pytest.approx(
            length, rel=1e-6
        )
        assert (level - 5.0) % 20.0 == 0


def test_depressions_and_index_lines_are_marked():
    r, c = np.mgrid[0:60, 0:60].astype(float)
    bowl = contours(surface(np.hypot(r - 30, c - 30)), 5.0)
    hill = contours(surface(60 - np.hypot(r - 30, c - 30)), 5.0)
    closed = bowl.columns["closed"]
    assert bowl.columns["depression"][closed].all() and not hill.columns["depression"].any()
    assert set(bowl.columns["elevation"][bowl.columns["index"]] % 25) == {0}
    ring = bowl.geometry[np.flatnonzero(bowl.columns["elevation"] == 10)[0]]
    assert shapely.Polygon(ring).area == pytest.approx(math.pi * (10 * 2) ** 2, rel=0.01)


def test_the_points_of_contours_are_foreseen(hills):
    """About as many as contourpy then makes (contourpy 1.3): one where a contour crosses from a cell to the next."""
    dem = surface(hills)
    for interval in (2.0, 10.0):
        made = shapely.get_num_points(contours(dem, interval).geometry).sum()
        assert points_expected(dem, interval) == pytest.approx(made, rel=0.1)


def test_too_many_contours_are_warned_of_before_running_and_traced_when_wanted(hills, monkeypatch):
    dem = surface(hills)
    wanted = points_expected(dem, 1.0)
    monkeypatch.setattr("moss_step.science.relief.contours.MANY_POINTS", wanted / 2)
    with pytest.raises(
        AskedWronglyError, match=r"interval of 2 or more, or ask for them with however_many=true"
    ):
        contours(dem, 1.0)
    lines = contours(dem, 1.0, however_many=True)
    assert shapely.get_num_points(lines.geometry).sum() == pytest.approx(wanted, rel=0.1)
    seen: list[str] = []
    progress = Progress(lambda fraction, doing: (seen.append(doing), progress.stop()))
    with pytest.raises(StoppedError):
        contours(dem, 1.0, however_many=True, progress=progress)
    assert len(seen) == 1 and seen[0].startswith("Tracing")


def test_contours_that_do_not_fit_into_memory_and_none_at_all_are_refused():
    dem = plane(200, 200, 1.0, 0.0)
    with pytest.raises(AskedWronglyError, match="more than the memory of this machine holds"):
        contours(dem, 1e-7, however_many=True)
    with pytest.raises(AskedWronglyError, match=r"gives \d[\d,]+ heights"):
        levels_between(dem.range, 1e-10, 0.0)
    with pytest.raises(MossError, match="No contour falls"):
        contours(dem, 10_000.0)


def test_openness_of_a_plane_is_90_degrees_and_of_a_pit_less():
    """Yokoyama et al. 2002: a level plane has 90 degrees both ways (mathematics)."""
    level = plane(30, 30, 0.0, 0.0)
    assert_allclose(openness(level, 20.0).values, 90.0)
    r, c = np.mgrid[0:41, 0:41] - 20.0
    pit = surface(np.hypot(r, c) * 2.0)  # walls at 45 degrees
    assert openness(pit, 30.0).values[20, 20] == pytest.approx(45.0, abs=0.1)
    assert openness(pit, 30.0, positive=False).values[20, 20] == pytest.approx(135.0, abs=0.1)
