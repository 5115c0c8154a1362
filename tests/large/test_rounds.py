"""Rounds over tiles: who works on them, in what order, and when they end."""

import threading
from collections import Counter, deque
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path

import numpy as np
import pytest

from moss_step.large.crew import Ahead, Alone, Crew, Work
from moss_step.large.hands import workers_here
from moss_step.large.scratch import ScratchIn
from moss_step.large.sides import Sides, sides_of
from moss_step.large.tiling import Tile, Tiling
from moss_step.large.water import rounds
from moss_step.large.water.rounds import Fixed, Known, Notes, Rims
from moss_step.model.errors import StoppedError
from moss_step.model.progress import Progress, silent

TILING = Tiling((20, 28), 4, 4)


class Doubling(Work):
    """Gives the row of a tile, doubled."""

    def __init__(self, side_by_side: bool = False) -> None:
        self.side_by_side = side_by_side

    def read(self, tile: Tile) -> int:
        return tile.row

    def work_out(self, _: Tile, read: int) -> int:
        return 2 * read


class Highest(Work):
    """Each cell of a tile becomes the highest that is known in or around it."""

    def __init__(self, known: Known | Fixed, values: np.ndarray, side_by_side: bool) -> None:
        self.known, self.values, self.side_by_side = known, values, side_by_side
        self.new = Counter[str]()

    def for_tile(self, tile: Tile) -> "Highest":
        return Highest(Fixed.of(self.known, tile), self.values, self.side_by_side)

    def read(self, tile: Tile) -> Rims:
        self.new[tile.name] += self.known.first(tile)
        return self.known.around(tile)

    def work_out(self, tile: Tile, read: Rims) -> np.ndarray:
        part = self.values[tile.rows, tile.cols]
        return np.full(part.shape, max(part.max(), read[0].max()))

    def finish(self, _: Tile, read: Rims, found: np.ndarray) -> tuple[Sequence[Sides], Rims]:
        return [sides_of(found)], read


@pytest.fixture(params=["in turn", "side by side", "by two workers"])
def crew(request: pytest.FixtureRequest) -> Iterator[tuple[Crew, bool]]:
    if request.param == "by two workers":
        with workers_here(2) as two:
            yield two, False
    else:
        yield Alone(), request.param == "side by side"


def notes_in(folder: Path) -> Notes:
    return Notes(ScratchIn(TILING, folder), "noted")


def test_rounds_end_when_nobody_learns_anything_new(crew: tuple[Crew, bool], tmp_path: Path) -> None:
    some, one_each = crew
    values = np.random.default_rng(4).integers(1, 1000, TILING.shape).astype(float)
    known = Known(TILING, 1, np.float64)
    work = Highest(known, values, one_each)
    around = rounds.settle(some, known, list(TILING), work, notes_in(tmp_path), silent(), "Looking")
    assert set(around) == {t.name for t in TILING}
    for tile in TILING:
        assert max(known.around(tile)[0].max(), around[tile.name][0].max()) == values.max()
        np.testing.assert_array_equal(known.around(tile)[0], around[tile.name][0])
    if isinstance(some, Alone):  # only the first time nothing was known of a tile
        assert set(work.new.values()) == {1}


def test_tiles_that_join_while_others_are_worked_on_are_worked_on_too(crew: tuple[Crew, bool]) -> None:
    some, one_each = crew
    tiles = list(TILING)
    waiting, coming, seen = deque(tiles[:1]), deque(tiles[1:]), list[Tile]()
    line = Joining(waiting)
    for tile, value in some.each(Doubling(one_each), line, silent(), "Doubling"):
        assert value == 2 * tile.row
        seen.append(tile)
        for _ in range(min(3, len(coming))):
            waiting.append(coming.popleft())
    assert sorted(seen) == sorted(tiles)


class Joining:
    """Tiles that others put in line."""

    def __init__(self, waiting: deque[Tile]) -> None:
        self._waiting = waiting

    def __len__(self) -> int:
        return len(self._waiting)

    def popleft(self) -> Tile:
        return self._waiting.popleft()


def test_no_tile_waits_for_a_round_to_end(tmp_path: Path) -> None:
    """While one tile is still worked on, those that its round has changed are worked on again."""
    known, slow, again = Known(TILING, 1, np.float64), threading.Event(), list[str]()

    class Slow(Highest):
        def work_out(self, tile: Tile, read: Rims) -> np.ndarray:
            if tile.name == "r4c6":
                assert slow.wait(60), "no other tile was worked on a second time meanwhile"
            elif not self.known.first(tile):
                again.append(tile.name)
                slow.set()
            return super().work_out(tile, read)

    values = np.random.default_rng(4).integers(1, 1000, TILING.shape).astype(float)
    work, notes = Slow(known, values, True), notes_in(tmp_path)
    rounds.settle(Alone(), known, list(TILING), work, notes, silent(), "Looking")
    assert again


def test_progress_of_rounds_never_goes_back_and_can_be_stopped(tmp_path: Path) -> None:
    told = list[float]()

    def tell(fraction: float, _: str) -> None:
        told.append(fraction)

    known = Known(TILING, 1, np.float64)
    values = np.random.default_rng(4).integers(1, 1000, TILING.shape).astype(float)
    work, notes = Highest(known, values, False), notes_in(tmp_path)
    rounds.settle(Alone(), known, list(TILING), work, notes, Progress(tell), "Looking")
    assert told == sorted(told) and told[-1] == 1.0 and len(set(told)) > 5
    assert 0.3 < told[-3] < 1.0  # it does not pretend to be nearly done all along
    stopped = Progress()
    stopped.stop()
    with pytest.raises(StoppedError):
        rounds.settle(Alone(), known, list(TILING), work, notes, stopped, "Looking")


def test_workers_are_waited_for_once_there_is_work() -> None:
    asked = list[int]()

    def begun() -> Crew:
        asked.append(1)
        return Alone()

    make: Callable[[], Crew] = begun
    crew = Ahead(make)
    found = crew.each(Doubling(), list(TILING), silent(), "Doubling")
    assert not asked
    assert {t.name: v for t, v in found} == {t.name: 2 * t.row for t in TILING}
    assert asked == [1]
