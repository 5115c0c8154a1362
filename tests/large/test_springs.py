"""The longest ways of water to places, on grounds in many small tiles, against those of one piece."""

from pathlib import Path

import numpy as np
import pytest

from moss_step.large.crew import Alone
from moss_step.large.water.ground import Ground
from moss_step.large.water.paths import up_from
from moss_step.model.progress import silent
from moss_step.model.surface import Surface
from moss_step.science.water.drainage import prepare
from moss_step.science.water.kernels.trace import longest_up
from tests.grounds import first, metric
from tests.large.test_spilling import drawn, in_small_tiles


def valley(rows: int, cols: int, turn: int) -> Surface:
    """A valley whose sides are alike, turned: ways from both of them, and from all along them, are as long."""
    r, c = np.mgrid[0:rows, 0:cols]
    z = 100.0 + r * 2.0 + np.abs(c - cols // 2) * 4.0
    return metric(np.ascontiguousarray(np.rot90(z, turn)))


def in_tiles(folder: Path, ground: Surface, high: int, wide: int) -> Ground:
    """A ground in tiles whose ways are known."""
    tiled, back = in_small_tiles(folder, ground, high, wide)
    ways = prepare(back).ways
    for tile in tiled.tiling:
        tiled.scratch.save("ways", tile, np.ascontiguousarray(ways[tile.rows, tile.cols]))
    return tiled


def assert_paths_alike(tiled: Ground, ground: Surface, cells: list[int]) -> None:
    drainage = prepare(ground)
    found = up_from(tiled, cells, Alone(), silent())
    for cell, path in zip(cells, found, strict=True):
        np.testing.assert_array_equal(path, longest_up(drainage.ways, drainage.metres, cell))


@pytest.mark.parametrize("seed", first(range(40), *range(0, 40, 3)))
def test_the_longest_ways_up_are_those_of_one_piece(seed: int, tmp_path: Path) -> None:
    dice = np.random.default_rng(seed)
    ground = drawn(dice, seed)
    tiled = in_tiles(tmp_path, ground, *dice.integers(1, 9, 2).tolist())
    known = np.flatnonzero(~np.isnan(ground.values))
    most = int(known[np.argmax(prepare(ground).cells.reshape(-1)[known])])
    assert_paths_alike(tiled, ground, [most, *dice.choice(known, min(8, len(known))).tolist()])


@pytest.mark.parametrize("turn", range(4))
@pytest.mark.parametrize("tile", [(3, 4), (5, 2), (64, 1)])
def test_of_ways_that_are_as_long_the_same_one_is_taken(
    turn: int, tile: tuple[int, int], tmp_path: Path
) -> None:
    ground = valley(40, 31, turn)
    tiled = in_tiles(tmp_path, ground, *tile)
    most = int(np.argmax(prepare(ground).cells))
    assert_paths_alike(tiled, ground, [most])
