"""How well places cover a ground, and the line that comes next; against the whole search and by mathematics."""

import numpy as np
import pytest

from moss_step.model.frame import Frame
from moss_step.science.interpolate.coverage import bearing_of_way, next_line, to_nearest

UTM = "EPSG:32628"


def test_distances_are_those_of_a_whole_search_on_cells_that_are_not_square():
    rng = np.random.default_rng(3)
    frame = Frame(40, 30, 1000.0, 900.0, 2.0, 0.5, UTM)
    x, y = rng.uniform(1000, 1060, 50), rng.uniform(880, 900, 50)
    inside = rng.random(frame.shape) < 0.7
    far = to_nearest(frame, inside, x, y)
    rows, cols = np.nonzero(inside)
    u, v = frame.x0 + (cols + 0.5) * 2.0, frame.y0 - (rows + 0.5) * 0.5
    whole = np.hypot(u[:, None] - x, v[:, None] - y).min(axis=1)
    wide, high = (m / d for m, d in zip(frame.cell_metres, (2.0, 0.5), strict=True))
    assert np.allclose(far[inside], whole * np.sqrt(wide * high), rtol=2e-3)
    assert np.isnan(far[~inside]).all()


@pytest.mark.parametrize("latitude", [5.0, 65.0])
def test_degrees_are_metres_on_the_ground(latitude):
    from pyproj import Geod

    frame = Frame(50, 50, 10.0, latitude, 1e-4, 1e-4, "EPSG:4326")
    x, y = frame.x0 + 25.5 * frame.dx, frame.y0 - 25.5 * frame.dy
    far = to_nearest(frame, np.ones(frame.shape, bool), np.array([x]), np.array([y]))
    _, _, metres = Geod(ellps="WGS84").inv(x, y, frame.x0 + 0.5 * frame.dx, frame.y0 - 0.5 * frame.dy)
    assert far[0, 0] == pytest.approx(metres, rel=1e-4)


@pytest.mark.parametrize("bearing", [0.0, 30.0, 90.0, 151.0])
def test_lines_to_and_fro_have_one_bearing(bearing):
    a = np.radians(bearing)
    along = np.array([0, 50, 50, 0, 0, 50], float)
    across = np.array([0, 0, 4, 4, 8, 8], float)
    east, north = along * np.sin(a) + across * np.cos(a), along * np.cos(a) - across * np.sin(a)
    assert bearing_of_way(east, north) == pytest.approx(bearing, abs=0.5)


def test_a_circle_has_no_bearing():
    a = np.linspace(0, 2 * np.pi, 100)
    assert bearing_of_way(np.cos(a), np.sin(a)) is None
    assert bearing_of_way(np.zeros(3), np.zeros(3)) is None


@pytest.mark.parametrize("bearing", [0.0, 40.0, 90.0])
def test_run_line_by_line_the_whole_is_covered_by_about_the_lines_it_takes(bearing):
    """An ellipse of 60 by 40 m at 5 m: a boat that always runs the line proposed leaves nothing, in few lines."""
    frame = Frame(100, 140, 0.0, 50.0, 0.5, 0.5, UTM)
    rows, cols = np.indices(frame.shape)
    x, y = frame.x0 + (cols + 0.5) * 0.5, frame.y0 - (rows + 0.5) * 0.5
    inside = ((x - 35) / 30) ** 2 + ((y - 25) / 20) ** 2 < 1
    px, py, here, spacing = [6.0], [25.0], (6.0, 25.0), 5.0
    count = 0
    for _ in range(60):
        far = to_nearest(frame, inside, np.array(px), np.array(py))
        line = next_line(far, frame, spacing, bearing, here)
        if line is None:
            break
        count += 1
        t = np.linspace(0, 1, 200)
        px += list(line[0, 0] + t * (line[1, 0] - line[0, 0]))
        py += list(line[0, 1] + t * (line[1, 1] - line[0, 1]))
        here = tuple(line[1])
        if np.hypot(*(line[1] - line[0])) > 5:
            assert np.degrees(np.arctan2(*(line[1] - line[0]))) % 180 == pytest.approx(
                bearing % 180, abs=1e-6
            )
    assert np.nanmax(far) <= 0.5 * (spacing + 0.5)
    across = {0.0: 60, 40.0: 54, 90.0: 40}[bearing]
    assert count <= 2.2 * across / spacing


def test_nothing_to_do_is_no_line_and_the_start_chooses_the_end():
    frame = Frame(20, 20, 0.0, 20.0, 1.0, 1.0, UTM)
    far = np.full(frame.shape, 1.0)
    assert next_line(far, frame, 4.0, 0.0) is None
    far[:, 10:] = 9.0
    south = next_line(far, frame, 4.0, 0.0, (12.0, 0.0))
    north = next_line(far, frame, 4.0, 0.0, (12.0, 20.0))
    assert south[0, 1] < south[1, 1] and north[0, 1] > north[1, 1]
    with pytest.raises(ValueError, match="spacing"):
        next_line(far, frame, 0.0, 0.0)
