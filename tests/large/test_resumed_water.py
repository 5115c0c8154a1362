"""Water in tiles that is stopped again and again: tiles that are done are not done anew, and nothing differs in the
end.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import asdict
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from moss_step.formats.raster_write import write_surface
from moss_step.formats.windows import GridSource
from moss_step.large.crew import Alone, TileWork
from moss_step.large.held import OnDisk
from moss_step.large.scratch import Scratch
from moss_step.large.tiling import Tile, squares
from moss_step.large.water.flats import SpreadWork
from moss_step.large.water.ground import Ground
from moss_step.large.water.upstream import find_ways_once
from moss_step.model.errors import MossError, StoppedError
from moss_step.model.progress import Progress, silent
from tests.large.test_water import GROUNDS


class Patient(Alone):
    """Works until so many tiles are done, then stops. Rounds over level ground do not count."""

    def __init__(self, most: int) -> None:
        self.most, self.done = most, Counter[tuple[str, str]]()

    def each(
        self, work: TileWork[Any], tiles: Sequence[Tile], progress: Progress, doing: str
    ) -> Iterator[tuple[Tile, Any]]:
        left = self.most
        for tile, found in super().each(work, tiles, progress, doing):
            yield tile, found
            if not isinstance(work, SpreadWork):
                self.done[type(work).__name__, tile.name] += 1
                left -= 1
                if left == 0 and tile != tiles[-1]:
                    raise StoppedError


def on_disk(folder: Path, name: str) -> OnDisk:
    write_surface(folder / "ground.tif", GROUNDS[name](), "ground")
    source = GridSource(folder / "ground.tif")
    return OnDisk(source, "surface", {"unit": asdict(source.measured_in), "quantity": "elevation"})


@pytest.mark.parametrize("name", ["whole metres with lakes", "oblong, holes", "a plane that is level"])
def test_a_run_that_is_stopped_again_and_again_does_no_tile_anew(name: str, tmp_path: Path) -> None:
    held = on_disk(tmp_path, name)
    tiling = squares(held.frame.shape, 40_000)
    grounds = []
    for folder in ("whole", "stopped"):
        (tmp_path / folder).mkdir()
        grounds.append(Ground(held, Scratch(tmp_path / folder, tiling)))
    whole, stopped = grounds
    find_ways_once(whole, Alone(), silent())
    crew, stops = Patient(5), 0
    while not stopped.scratch.finished("ways"):
        try:
            find_ways_once(stopped, crew, silent())
        except StoppedError:
            stops += 1
    assert stops >= 3 and set(crew.done.values()) == {1}
    for tile in tiling:
        for what in ("filled", "ways"):
            assert np.array_equal(
                stopped.scratch.load(what, tile), whole.scratch.load(what, tile), equal_nan=True
            )


def test_a_rim_that_was_cut_short_is_named(tmp_path: Path) -> None:
    held = on_disk(tmp_path, "oblong, holes")
    ground = Ground(held, Scratch(tmp_path, squares(held.frame.shape, 40_000)))
    with pytest.raises(StoppedError):
        find_ways_once(ground, Patient(5), silent())
    rim = next(tmp_path.glob("rim-*.cells"))
    rim.write_bytes(rim.read_bytes()[:-5])
    with pytest.raises(MossError, match="cut short"):
        find_ways_once(ground, Alone(), silent())
