"""How much ground passes a threshold, against NumPy at every threshold."""

import numpy as np
import pytest

from moss_step.model.errors import MossError
from moss_step.science.classes.curve import threshold_curve
from moss_step.science.relief.gradient import aspect
from moss_step.science.relief.hypsometry import hypsometry
from tests.grounds import GROUNDS, metric, relief


@pytest.mark.parametrize("side", ["above", "below"])
@pytest.mark.parametrize("name", GROUNDS)
def test_every_threshold_passes_what_numpy_counts(name, side):
    dem = GROUNDS[name]
    curve = threshold_curve(dem, 17, side).columns
    areas = np.broadcast_to(dem.frame.row_areas[:, None], dem.frame.shape)
    values = dem.values.astype(np.float64)
    known = ~np.isnan(values)
    for level, area, share, volume in zip(*(curve[n] for n in ("threshold", "area_m2", "share", "volume_m3")), strict=True):  # fmt: skip
        passes = known & (values >= level if side == "above" else values <= level)
        assert area == pytest.approx(areas[passes].sum(), rel=1e-9, abs=1e-9)
        assert share == pytest.approx(areas[passes].sum() / areas[known].sum(), rel=1e-9, abs=1e-12)
        beyond = np.abs(values[passes] - level) * areas[passes] * dem.metres_per_height
        assert volume == pytest.approx(beyond.sum(), rel=1e-6, abs=1e-3 * areas.max())


def test_it_is_the_hypsometric_curve_of_heights():
    dem = metric(relief(2))
    ours, theirs = threshold_curve(dem, 40).columns, hypsometry(dem, 40)[0].columns
    assert np.allclose(ours["area_m2"][:-1], theirs["area_above_m2"][:-1])


def test_bearings_and_level_ground_have_none():
    dem = metric(relief(2))
    with pytest.raises(MossError, match="Bearings"):
        threshold_curve(aspect(dem))
    level = metric(np.full((4, 4), 3.0))
    with pytest.raises(MossError, match="one value"):
        threshold_curve(level)
