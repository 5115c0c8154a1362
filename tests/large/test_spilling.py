"""Pools that end basins, on grounds in many small tiles, against the tree of pools of the ground in one piece."""

from pathlib import Path

import numpy as np
import pytest

from moss_step.formats.raster import read_surface
from moss_step.formats.raster_write import write_surface
from moss_step.large.crew import Alone
from moss_step.large.jobs import left_on_disk
from moss_step.large.scratch import ScratchIn
from moss_step.large.tiling import Tiling
from moss_step.large.water.ground import Ground
from moss_step.large.water.passes import fill
from moss_step.large.water.pool_basins import divide
from moss_step.model.errors import MossError
from moss_step.model.progress import silent
from moss_step.model.surface import Surface
from moss_step.science.water.basin_figures import Sums, figure_columns
from moss_step.science.water.basins import divided
from moss_step.science.water.drainage import prepare
from moss_step.study.graph import Step, Study
from tests.grounds import first, in_degrees, metric, relief

TINY = range(0, 30, 7)
"""Grounds of few cells, in tiles of one cell or little more."""


def drawn(dice: np.random.Generator, seed: int) -> Surface:
    """A ground of few cells: of whole or half heights, so that passes, bottoms and flats tie everywhere, or smooth;
    with or without voids; in metres, oblong, or degrees.
    """
    shape = tuple(dice.integers(3, 14 if seed in TINY else 48, 2))
    grounds = (
        lambda: dice.random(shape) * 10.0,
        lambda: np.round(dice.random(shape) * 10.0),
        lambda: np.round(dice.random(shape) * 3.0),
        lambda: np.round(dice.random(shape) * 20.0) / 2.0 + 500.0,
        lambda: np.round(relief(seed, *shape) * 0.2 + dice.random(shape), 1),
        lambda: relief(seed, *shape) * 0.1 + dice.random(shape) * 0.3,
    )
    z = grounds[seed % len(grounds)]()
    if dice.random() < 0.5:
        z[dice.random(shape) < dice.choice([0.02, 0.2])] = np.nan
    return in_degrees(z, 65.0) if dice.random() < 0.3 else metric(z, *dice.choice([1.0, 2.0, 5.0], 2))


def in_small_tiles(folder: Path, ground: Surface, high: int, wide: int) -> tuple[Ground, Surface]:
    """A ground in a file, in tiles of so many rows and columns, and as the file gives it back."""
    file = folder / "ground.tif"
    write_surface(file, ground, "ground")
    study = Study(steps=(Step(id="ground", kind="open_grid", settings={"source": str(file)}),))
    held = left_on_disk(study, study.steps, True)["ground"]
    tiling = Tiling(ground.frame.shape, high, wide)
    return Ground(held, ScratchIn(tiling, folder)), read_surface(file)[0]


@pytest.mark.parametrize("seed", first(range(30), *range(0, 30, 3)))
def test_pools_end_the_same_basins_in_tiles(seed: int, tmp_path: Path) -> None:
    dice = np.random.default_rng(seed)
    drawn_ground = drawn(dice, seed)
    high, wide = dice.integers(*(1, 4) if seed in TINY else (4, 20), 2).tolist()
    tiled, ground = in_small_tiles(tmp_path, drawn_ground, high, wide)
    depth, area = float(dice.choice([0.0, 0.1, 0.5, 1.0, 2.0, 5.0])), float(dice.choice([0.0, 20.0]))
    drainage = prepare(ground)
    numbered, ends, nodes = divided(drainage, depth, area)
    if not len(ends):
        with pytest.raises(MossError, match="No basin has"):
            divide(tiled, (depth, area), Alone(), silent())
        return
    if seed % 2:  # filled by another step before, which has let go of its pools
        fill(tiled, Alone(), silent())
    found = divide(tiled, (depth, area), Alone(), silent())
    rows, cols = ground.frame.shape
    assert np.array_equal(tiled.scratch.part("basins", slice(0, rows), slice(0, cols), 0), numbered)
    assert found.end.tolist() == ends.tolist()
    own = drainage.pools.depth[nodes].astype(float)
    assert found.depth.tolist() == np.where(own < depth, 0.0, own).tolist()
    bottom = drainage.z.reshape(-1)[drainage.pools.cell[nodes]]
    assert found.level.tolist() == (bottom + drainage.pools.depth[nodes]).tolist()
    left = {p.name.split("-r")[0] for p in tmp_path.iterdir() if p.is_file()}
    assert not left & {
        "raw",
        "passes",
        "pools",
        "labels",
        "spills",
        "rim",
        "spill-left",
        "spill-pools",
        "spill-ends",
    }


def test_level_basins_have_no_hypsometric_integral():
    """Whatever the sums of their heights are rounded to, which differs with the order of the cells."""
    dem, one = metric(np.full((2, 2), 7.1)), np.ones(3)
    moment = np.array([7.1, np.nextafter(7.1, 8.0), np.nextafter(7.1, 7.0)])
    sums = Sums(one, one, one * 7.1, one * 7.1, moment, one * 0.0, one)
    columns = figure_columns(sums, (one, one), np.zeros(3, int), one * 7.1, (dem, 0.0), dem.frame)
    assert np.isnan(columns["hypsometric_integral"]).all()
