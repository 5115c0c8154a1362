"""A second surface at the cells of the first: units, cells and systems that differ, and what is said."""

import numpy as np
import pytest

from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.frame import Frame, carried
from moss_step.model.surface import Surface
from moss_step.model.units import CENTIMETRE, FOOT, METRE, UNKNOWN
from moss_step.science.earthwork.meeting import laid_on

UTM = "EPSG:32628"


def plane(frame, unit=METRE, crs_of=UTM):
    x = frame.x0 + (np.arange(frame.cols) + 0.5) * frame.dx
    y = (frame.y0 - (np.arange(frame.rows) + 0.5) * frame.dy)[:, None]
    if frame.crs == "EPSG:4326":
        u, v = np.meshgrid(x, y.ravel())
        x, y = (a.reshape(frame.shape) for a in carried("EPSG:4326", UTM, u.ravel(), v.ravel()))
    z = 100.0 + 0.01 * (x - 500_000.0) + 0.02 * (y - 6_000_000.0)
    return Surface(z / (unit.factor if unit.kind == "length" else 1.0), frame, unit)


FIRST = Frame(30, 40, 500_100.0, 6_000_400.0, 2.0, 2.0, UTM)
WIDE = Frame(80, 60, 500_050.0, 6_000_450.0, 3.0, 5.0, UTM)


@pytest.mark.parametrize(("mine", "theirs"), [
    (METRE, FOOT), (CENTIMETRE, METRE), (FOOT, CENTIMETRE), (UNKNOWN, CENTIMETRE), (CENTIMETRE, UNKNOWN),
    (UNKNOWN, UNKNOWN), (METRE, METRE),
])  # fmt: skip
def test_heights_come_in_the_unit_of_the_first_and_unknown_ones_are_metres(mine, theirs):
    first, other = plane(FIRST, mine), plane(FIRST, theirs)
    heights, said = laid_on(other, first)
    assert np.allclose(heights, first.values, rtol=1e-12)
    assert bool(said) == (mine != theirs)


def test_other_cells_are_read_between():
    heights, said = laid_on(plane(WIDE), plane(FIRST))
    assert np.allclose(heights, plane(FIRST).values, atol=1e-6) and "other cells" in said[0]


def test_another_system_is_carried_over():
    lon, lat = carried(UTM, "EPSG:4326", np.array([500_080.0]), np.array([6_000_430.0]))
    frame = Frame(120, 120, float(lon[0]), float(lat[0]), 2e-5, 1e-5, "EPSG:4326")
    heights, _ = laid_on(plane(frame), plane(FIRST))
    known = np.isfinite(heights)
    assert known.mean() > 0.5
    assert np.allclose(heights[known], plane(FIRST).values[known], atol=1e-3)


def test_what_cannot_meet_is_refused():
    far = Frame(30, 40, 900_000.0, 6_000_400.0, 2.0, 2.0, UTM)
    with pytest.raises(MossError, match="do not overlap"):
        laid_on(plane(far), plane(FIRST))
    nowhere = Frame(30, 40, 500_100.0, 6_000_400.0, 2.0, 1.0, None)
    with pytest.raises(AskedWronglyError, match="no reference system"):
        laid_on(Surface(np.ones((30, 40)), nowhere, METRE), plane(FIRST))
