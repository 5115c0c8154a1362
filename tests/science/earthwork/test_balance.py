"""The level that balances: against bisection over all cells, by mathematics, with factors."""

import numpy as np
import pytest
import shapely

from moss_step.model.errors import MossError
from moss_step.model.frame import Frame
from moss_step.science.earthwork.balance import ByLevel
from moss_step.science.earthwork.outline import Outline

FRAME = Frame(60, 80, 0.0, 60.0, 0.5, 1.0, "EPSG:32628")
AREA = shapely.Point(20, 30).buffer(17.0).difference(shapely.Point(22, 31).buffer(3.0))


@pytest.mark.parametrize("factor", [0.8, 1.0, 1.25])
@pytest.mark.parametrize("ground", ["rough", "steps", "large base", "holes"])
def test_net_is_within_a_thousandth_of_the_total(ground, factor):
    rng = np.random.default_rng(2)
    z = {
        "rough": rng.normal(size=FRAME.shape),
        "steps": np.round(rng.normal(size=FRAME.shape)),
        "large base": 4000.0 + 1e-3 * rng.normal(size=FRAME.shape),
        "holes": np.where(rng.random(FRAME.shape) < 0.2, np.nan, rng.normal(size=FRAME.shape)),
    }[ground]
    outline = Outline(FRAME, AREA)
    level = ByLevel(z, outline).balanced(factor)
    moved = outline.moved(z, level)
    assert abs(factor * moved.cut - moved.fill) <= 1e-6 * (moved.cut + moved.fill)


def test_a_wedge_balances_at_its_middle():
    x = (np.arange(80) + 0.5) * 0.5
    z = np.broadcast_to(x / 10.0, FRAME.shape)
    assert ByLevel(z, Outline(FRAME, shapely.box(10, 10, 30, 40))).balanced() == pytest.approx(2.0, abs=1e-9)


def test_flat_ground_balances_at_itself_and_the_curve_says_what_a_level_does():
    assert ByLevel(np.full(FRAME.shape, 7.0), Outline(FRAME, AREA)).balanced() == 7.0
    z = np.random.default_rng(1).normal(size=FRAME.shape)
    outline = Outline(FRAME, AREA)
    levels, cut, fill = ByLevel(z, outline).curve(20)
    for k in (3, 10, 16):
        moved = outline.moved(z, float(levels[k]))
        assert cut[k] == pytest.approx(moved.cut, rel=1e-3) and fill[k] == pytest.approx(moved.fill, rel=1e-3)


def test_no_height_is_refused():
    with pytest.raises(MossError, match="No height"):
        ByLevel(np.full(FRAME.shape, np.nan), Outline(FRAME, AREA))
