"""The whole job on the survey: first returns less ground, over a bound, connected patches, their table.

Sources: the survey's own truth; `skimage.measure.label` (general library) for the patches.
"""

import numpy as np
import pytest
import shapely
from skimage.measure import label

from moss_step.demo import DATA
from moss_step.demo.lidar import SOUTH, WEST, trees
from moss_step.formats.las import read_cloud
from moss_step.model.progress import silent
from moss_step.steps.catalogue import catalogue
from moss_step.study.declared import run_declared


def run(kind, settings=None, **inputs):
    return run_declared(catalogue()[kind], settings or {}, inputs, silent()).value


@pytest.fixture(scope="module")
def made():
    cloud, _ = read_cloud(DATA / "harrow_survey.laz")
    bare = run("ground_points", {"terrain": "upland"}, cloud=cloud)
    ground = run("grid_points", {"what": "ground", "cell": 1.0}, cloud=bare)
    first = run("grid_points", {"what": "first", "fill": 1.5}, cloud=bare, like=ground)
    above = run("difference", {}, first=first, second=ground)
    tall = run("threshold", {"at_least": 2.0}, surface=above)
    return cloud, bare, ground, above, tall


def test_bare_ground_is_the_ground_that_was_flown_over(made):
    """Against the grid that the survey was made from, at the middles of the cells."""
    from moss_step.formats.raster import read_surface
    from moss_step.science.relief.profile import values_at

    _, _, ground, *_ = made
    frame = ground.frame
    r, c = (v.reshape(-1) for v in np.mgrid[0 : frame.rows, 0 : frame.cols])
    true = values_at(
        read_surface(DATA / "harrow_ground.tif")[0],
        frame.x_of(0) + c * frame.dx,
        frame.y_of(0) - r * frame.dy,
    )
    off = ground.values.reshape(-1) - true
    off = off[np.isfinite(off)]
    assert (
        abs(np.mean(off)) < 0.03 and np.sqrt(np.mean(off**2)) < 0.08 and np.quantile(np.abs(off), 0.99) < 0.25
    )
    tarn = (r - (frame.rows - 250)) ** 2 / 18**2 + (c - 60) ** 2 / 28**2 < 0.5
    assert np.isnan(ground.values.reshape(-1)[tarn]).all(), "no ground is made up on the tarn"


def test_tall_patches_are_those_of_the_general_library(made):
    *_, above, tall = made
    for neighbours in (4, 8):
        patches = run("patches", {"neighbours": str(neighbours)}, classes=tall, surface=above)
        yes = patches.columns["class"] == max(patches.columns["class"])
        high = np.nan_to_num(above.values, nan=-1.0) >= 2.0
        labelled, count = label(high, connectivity=1 if neighbours == 4 else 2, return_num=True)
        assert yes.sum() == count
        sizes = np.sort(np.bincount(labelled.reshape(-1))[1:])
        assert np.sort(patches.columns["cells"][yes]).tolist() == sizes.tolist()
        assert shapely.area(patches.geometry[yes]) == pytest.approx(patches.columns["area_m2"][yes])


def test_barns_and_trees_are_as_high_as_they_were_made(made):
    _, _, ground, above, _ = made
    frame = ground.frame

    def around(x, y, reach):
        row, col = frame.cell_at(WEST + x, SOUTH + y)
        return np.nanmax(
            above.values[max(row - reach, 0) : row + reach + 1, max(col - reach, 0) : col + reach + 1]
        )

    assert around(70, 60, 5) == pytest.approx(6.5, abs=0.4) and around(110, 95, 4) == pytest.approx(
        5.2, abs=0.4
    )
    off = [around(t.x, t.y, 1) - t.height for t in trees()]
    assert abs(np.median(off)) < 0.5
