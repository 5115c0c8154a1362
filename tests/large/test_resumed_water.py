"""Water in tiles that is stopped again and again: tiles that are done are not done anew, and nothing differs in the
end.
"""

from __future__ import annotations

import os
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from moss_step.formats.raster_write import write_surface
from moss_step.formats.windows import GridSource
from moss_step.large.crew import Alone, Line, TileWork
from moss_step.large.held import OnDisk
from moss_step.large.scratch import ScratchIn, begin_or_go_on, scratch_in
from moss_step.large.tiling import Tile, squares
from moss_step.large.water.ground import Ground
from moss_step.large.water.rising import Rising, rise_once
from moss_step.large.water.sharing import Sharing, Upstream, add_up
from moss_step.large.water.upstream import find_ways_once
from moss_step.model.errors import MossError, StoppedError
from moss_step.model.progress import Progress, silent
from tests.grounds import first
from tests.large.test_water import GROUNDS


class Patient(Alone):
    """Works until so many tiles are done, then stops. Rounds do not count."""

    def __init__(self, most: int) -> None:
        self.most, self.done = most, Counter[tuple[str, str]]()

    def each(
        self, work: TileWork[Any], tiles: Sequence[Tile] | Line, progress: Progress, doing: str
    ) -> Iterator[tuple[Tile, Any]]:
        left = self.most
        for tile, found in super().each(work, tiles, progress, doing):
            yield tile, found
            if isinstance(tiles, Sequence):
                self.done[type(work).__name__, tile.name] += 1
                left -= 1
                if left == 0 and tile != tiles[-1]:
                    raise StoppedError


class Leaving(Alone):
    """Goes over so many tiles in rounds, then stops; counts them."""

    def __init__(self, most: int) -> None:
        self.most, self.done = most, 0

    def each(
        self, work: TileWork[Any], tiles: Sequence[Tile] | Line, progress: Progress, doing: str
    ) -> Iterator[tuple[Tile, Any]]:
        for found in super().each(work, tiles, progress, doing):
            yield found
            self.done += not isinstance(tiles, Sequence)
            if self.done == self.most:
                raise StoppedError


def on_disk(folder: Path, name: str) -> OnDisk:
    write_surface(folder / "ground.tif", GROUNDS[name](), "ground")
    source = GridSource(folder / "ground.tif")
    return OnDisk(source, "surface", {"unit": asdict(source.measured_in), "quantity": "elevation"})


@pytest.mark.parametrize(
    "name",
    first(["whole metres with lakes", "oblong, holes", "a plane that is level"], "whole metres with lakes"),
)
def test_a_run_that_is_stopped_again_and_again_does_no_tile_anew(name: str, tmp_path: Path) -> None:
    held = on_disk(tmp_path, name)
    whole, stopped = two_grounds(held, tmp_path)
    find_ways_once(whole, Alone(), silent())
    crew, stops = Patient(3), 0
    while not stopped.scratch.finished("ways"):
        try:
            find_ways_once(stopped, crew, silent())
        except StoppedError:
            stops += 1
    assert stops >= 3 and set(crew.done.values()) == {1}
    same(stopped, whole)


def spread(ground: Ground, crew: Alone) -> str:
    """Level ground gets its ways; gives what tiles keep them under."""
    find_ways_once(ground, crew, silent())
    return "ways"


def share(ground: Ground, crew: Alone) -> str:
    """Water is shared out."""
    find_ways_once(ground, Alone(), silent())
    upstream = Upstream(ground, Sharing("freeman", 1.1), ("cells", "edge"))
    add_up(upstream, crew, silent())
    return upstream.name


def rise(ground: Ground, crew: Alone) -> str:
    """The ground is filled with a gradient."""
    rising = Rising(ground, 0.01)
    rise_once(rising, crew, silent())
    return rising.name


@pytest.mark.parametrize("run", [spread, share, rise])
@pytest.mark.parametrize("name", first(["whole metres with lakes", "oblong, holes"], "oblong, holes"))
def test_rounds_that_were_ended_go_on_from_what_was_noted(
    name: str, run: Callable[[Ground, Alone], str], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(os, "cpu_count", lambda: 1)  # tile after tile: always in the same order
    whole, ended = two_grounds(on_disk(tmp_path, name), tmp_path)
    alone, again = Leaving(-1), Leaving(-1)
    kept = run(whole, alone)
    most = (len(whole.tiling) + alone.done) // 2
    assert most > len(whole.tiling)  # all were gone over, and some once more
    with pytest.raises(StoppedError):
        run(ended, Leaving(most))
    assert run(ended, again) == kept
    assert again.done < alone.done - most / 2
    for tile in whole.tiling:
        ours, theirs = (g.scratch.load(kept, tile) for g in (whole, ended))
        assert np.array_equal(ours, theirs, equal_nan=True)
    assert not list(tmp_path.glob("o*/*noted*"))


def test_what_was_noted_of_other_weights_is_not_gone_on_from(tmp_path: Path) -> None:
    whole, ended = two_grounds(on_disk(tmp_path, "oblong, holes"), tmp_path)
    for ground in (whole, ended):
        find_ways_once(ground, Alone(), silent())

    def weighed(ground: Ground, factor: float) -> Upstream:
        return Upstream(ground, Sharing("freeman", 1.1), ("cells",), Even(ground, factor))

    with pytest.raises(StoppedError):
        add_up(weighed(ended, 3.0), Leaving(len(ended.tiling)), silent())
    for ground in (whole, ended):
        add_up(weighed(ground, 2.0), Alone(), silent())
    for tile in whole.tiling:
        ours, theirs = (weighed(g, 2.0).of(tile) for g in (whole, ended))
        assert np.array_equal(ours, theirs, equal_nan=True) and np.nanmax(ours) > 2.0


@dataclass(frozen=True)
class Even:
    """All cells count alike."""

    ground: Ground
    factor: float

    def of(self, tile: Tile) -> np.ndarray:
        return np.full((tile.bottom - tile.top, tile.right - tile.left), self.factor, np.float32)


@pytest.mark.parametrize(
    "name",
    ["raw-window", "raw-beside", "raw-far", "raw", "labels", "rim", "ways-window", "ways-beside", "dry"],
)
def test_a_kill_beside_what_is_let_go_of_leaves_a_run_that_goes_on(
    name: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Files of a phase are let go of, and the run ends before it does anything else."""
    whole, killed = two_grounds(on_disk(tmp_path, "whole metres with lakes"), tmp_path)
    find_ways_once(whole, Alone(), silent())
    drop = ScratchIn.drop

    def and_end(self: ScratchIn, what: str) -> None:
        drop(self, what)
        if what == name:
            raise StoppedError

    with monkeypatch.context() as patch:
        patch.setattr(ScratchIn, "drop", and_end)
        with pytest.raises(StoppedError):
            find_ways_once(killed, Alone(), silent())
    find_ways_once(killed, Alone(), silent())
    same(killed, whole)


def two_grounds(held: OnDisk, folder: Path) -> tuple[Ground, Ground]:
    """The same ground in tiles, with a folder of its own each."""
    some = [folder / "one", folder / "other"]
    for one in some:
        one.mkdir()
    one, other = (Ground(held, scratch_in(f, squares(held.frame.shape, 40_000))) for f in some)
    return one, other


def same(ours: Ground, theirs: Ground) -> None:
    """What is filled, and all ways, cell by cell."""
    for tile in ours.tiling:
        for what in ("filled", "ways"):
            some, others = (g.scratch.load(what, tile) for g in (ours, theirs))
            assert np.array_equal(some, others, equal_nan=True)


def test_a_rim_that_was_cut_short_is_named(tmp_path: Path) -> None:
    held = on_disk(tmp_path, "oblong, holes")
    ground = Ground(held, scratch_in(tmp_path, squares(held.frame.shape, 40_000)))
    with pytest.raises(StoppedError):
        find_ways_once(ground, Patient(3), silent())
    rim = next(tmp_path.glob("rim-*.cells"))
    rim.write_bytes(rim.read_bytes()[:-5])
    with pytest.raises(MossError, match="cut short"):
        find_ways_once(ground, Alone(), silent())


def test_a_file_on_the_way_whose_bytes_changed_is_not_gone_on_from(tmp_path: Path) -> None:
    """Its length is right: only its hash tells. What was not yet whole, or put aside, is removed."""
    whole, stopped = two_grounds(on_disk(tmp_path, "oblong, holes"), tmp_path)
    find_ways_once(whole, Alone(), silent())
    folder = stopped.scratch.folder
    with pytest.raises(StoppedError):
        find_ways_once(stopped, Patient(3), silent())
    begin_or_go_on(folder)
    kept = {file.name for file in folder.glob("*.cells")}
    assert kept  # all is as it was written
    (folder / "raw-r0c0.cells.17").write_bytes(b"half")
    (folder / "aside-1").mkdir()
    rim = folder / next(n for n in kept if n.startswith("rim-"))
    held = bytearray(rim.read_bytes())
    held[-1] ^= 1
    rim.write_bytes(held)
    begin_or_go_on(folder)
    assert not list(folder.iterdir())
    find_ways_once(stopped, Alone(), silent())
    same(stopped, whole)
