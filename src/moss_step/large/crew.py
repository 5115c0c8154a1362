"""Who works on tiles: this process, or workers of a cluster, here or elsewhere."""

from __future__ import annotations

import os
import threading
import time
from collections import deque
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Future, ThreadPoolExecutor, wait
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from functools import partial
from importlib import import_module
from importlib.util import find_spec
from queue import Empty, SimpleQueue
from typing import Any, Protocol, Self, TypeVar
from uuid import uuid4

from moss_step import __version__
from moss_step.formats.address import Address, Place
from moss_step.large.hand import NEEDED, say_less
from moss_step.large.tiling import CELLS, Tile
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.progress import Progress

D = TypeVar("D")
D_co = TypeVar("D_co", covariant=True)
WAIT = 8.0
"""Seconds that a scheduler is waited for."""
_BEAT, _TRIES = 0.2, 2
"""Seconds between two looks whether a tile is done; how often one that failed is tried again by a cluster."""
_EACH, _MOST, _CELLS = 3, 8, 3 * CELLS
"""Of what waits each hand of a cluster is sent its share, divided by the first, and no more tiles and cells
than the others say.
"""
_HELD = "moss_step_work"
"""What a worker keeps the work under that it has begun."""
_GOES_ON = "it goes on with the tiles that are not done."
_LOOK, _PATIENCE = 2.0, 30.0
"""Seconds after which it is asked whether any worker is left, and for which one may be begun anew."""


class TileWork(Protocol[D_co]):
    """Work on one tile in three strokes, so that one tile is read while another is worked out. It is sent to
    workers, and holds nothing that cannot be.
    """

    @property
    def side_by_side(self) -> bool:
        """Whether it uses a single core, and reads in each thread by itself."""

    def for_tile(self, tile: Tile) -> TileWork[D_co]:
        """It, with no more than one tile needs: what a worker is sent."""

    def read(self, tile: Tile) -> Any:
        """What the tile needs; called by one thread at a time, tile after tile."""

    def work_out(self, tile: Tile, read: Any) -> Any:
        """The results of the tile."""

    def finish(self, tile: Tile, read: Any, results: Any) -> D_co:
        """Write them; gives the little that has to be known of them."""


class Work:
    """What works on tiles have, unless they say otherwise: they use all cores, know nothing of single tiles,
    and keep nothing: what is found of a tile is what has to be known of it.
    """

    side_by_side = False

    def for_tile(self, tile: Tile, /) -> Self:
        """All of it."""
        return self

    def finish(self, tile: Tile, read: Any, found: Any, /) -> Any:
        """What was found."""
        return found


class Line(Protocol):
    """Tiles that wait to be worked on: more may join while others are worked on, and what becomes of these
    is given.
    """

    def __len__(self) -> int:
        """How many wait."""

    def popleft(self) -> Tile:
        """The next one, which waits no longer."""


class Crew(Protocol):
    """Workers, however many there are."""

    def each(
        self, work: TileWork[D], tiles: Sequence[Tile] | Line, progress: Progress, doing: str
    ) -> Iterator[tuple[Tile, D]]:
        """Work on tiles, until none is left; gives each with what became of it, in any order.

        Raises StoppedError when stopped, and what the work raises.
        """


class Alone:
    """This process: the next tile is read and the last one written while one is worked out."""

    def each(
        self, work: TileWork[D], tiles: Sequence[Tile] | Line, progress: Progress, doing: str
    ) -> Iterator[tuple[Tile, D]]:
        """Work on tiles in their order; where a work uses one core, a tile on each."""
        one_each = work.side_by_side and (os.cpu_count() or 1) > 1
        yield from (self._side_by_side if one_each else self._in_turn)(work, in_line(tiles), progress, doing)
        progress.at(1.0, doing)

    @staticmethod
    def _in_turn(
        work: TileWork[D], waiting: Line, progress: Progress, doing: str
    ) -> Iterator[tuple[Tile, D]]:
        with ThreadPoolExecutor(1) as reader, ThreadPoolExecutor(1) as writer:

            def begun() -> tuple[Tile, Future[Any]] | None:
                if not waiting:
                    return None
                tile = waiting.popleft()
                return tile, reader.submit(work.read, tile)

            done, ahead = 0, begun()
            written: tuple[Tile, Future[D]] | None = None
            try:
                while ahead or written:
                    now, ahead, last = ahead, None, written
                    written = None
                    if now:
                        progress.at(done / (done + len(waiting) + (2 if last else 1)), doing)
                        tile, reading = now
                        read, ahead = reading.result(), begun()
                        written = tile, writer.submit(work.finish, tile, read, work.work_out(tile, read))
                    if last:
                        yield last[0], last[1].result()
                        done += 1
                    ahead = ahead or begun()
            finally:
                reader.shutdown(cancel_futures=True)

    @staticmethod
    def _side_by_side(
        work: TileWork[D], waiting: Line, progress: Progress, doing: str
    ) -> Iterator[tuple[Tile, D]]:
        with ThreadPoolExecutor(os.cpu_count(), initializer=_one_core) as pool:
            done, running = 0, deque[tuple[Tile, Future[D]]]()
            try:
                while waiting or running:
                    while waiting and len(running) < 2 * (os.cpu_count() or 1):
                        tile = waiting.popleft()
                        running.append((tile, pool.submit(_done, work, tile)))
                    tile, future = running[0]
                    while not _ready(future):
                        progress.at(done / (done + len(running) + len(waiting)), doing)
                    running.popleft()
                    yield tile, future.result()
                    done += 1
            finally:
                pool.shutdown(cancel_futures=True)


def in_line(tiles: Sequence[Tile] | Line) -> Line:
    """Tiles that wait: those of a sequence one after another."""
    return deque(tiles) if isinstance(tiles, Sequence) else tiles


def _one_core() -> None:
    import numba

    numba.set_num_threads(1)


def _ready(future: Future[Any]) -> bool:
    return bool(wait([future], timeout=_BEAT).done)


def _done(work: TileWork[D], tile: Tile) -> D:
    read = work.read(tile)
    return work.finish(tile, read, work.work_out(tile, read))


@dataclass(frozen=True)
class Refused:
    """What a worker could not do, and why; sent in place of the error, which may hold what cannot be sent."""

    what: str
    do: str


def whole_work(some: Sequence[tuple[TileWork[D], Tile]], name: str) -> list[D | Refused]:
    """All three strokes of some tiles, one after another: what a worker is sent. Where one work is that of
    all tiles it has a ``name``, and a worker goes on with what it was sent first, and has made for it.
    """
    if name:
        kept = _kept(name, some[0][0])
        return [_done_or_not(kept, tile) for _, tile in some]
    return [_done_or_not(work, tile) for work, tile in some]


def _kept(name: str, work: TileWork[D]) -> TileWork[D]:
    from distributed import get_worker

    worker = get_worker()
    held: tuple[str, TileWork[D]] | None = getattr(worker, _HELD, None)
    if held is None or held[0] != name:
        held = name, work
        setattr(worker, _HELD, held)
    return held[1]


def _done_or_not(work: TileWork[D], tile: Tile) -> D | Refused:
    try:
        return _done(work, tile)
    except MossError as error:
        return Refused(error.what, error.do)


class Cluster:
    """Workers of a Dask cluster. A worker that dies is replaced: its tile is worked out by another one."""

    def __init__(self, client: Any) -> None:
        self._client = client

    @property
    def hands(self) -> int:
        """How many tiles are worked on at a time."""
        return max(1, sum(int(n) for n in self._client.nthreads().values()))

    @property
    def address(self) -> str:
        """Where the scheduler is."""
        return str(self._client.scheduler.address)

    def said(self) -> str:
        """How many workers there are, what memory the largest has, and how many tiles they work on."""
        workers = self._client.scheduler_info(n_workers=-1)["workers"].values()
        if not workers:
            return "No workers are left."
        most = max(float(w["metrics"].get("memory", 0)) for w in workers) / 1e9
        tiles = sum(int(w["metrics"].get("executing", 0)) for w in workers)
        n = len(workers)
        return f"{n} worker{'s' if n > 1 else ''}, at most {most:.1f} GB each; {tiles} at work on a tile."

    def each(
        self, work: TileWork[D], tiles: Sequence[Tile] | Line, progress: Progress, doing: str
    ) -> Iterator[tuple[Tile, D]]:
        """Work on tiles, as many at a time as there are hands, and a few that wait. What is sent costs some
        hundredths of a second, whatever is in it: so some tiles are sent together while many wait (guided
        self-scheduling, Polychronopoulos & Kuck 1987, IEEE Transactions on Computers 36).
        """
        progress.at(0.0, doing)
        hands, waiting, name = self.hands, in_line(tiles), uuid4().hex
        ready, given = SimpleQueue[Any](), dict[str, tuple[Sequence[Tile], Any]]()

        def send() -> None:
            while waiting and len(given) < 2 * hands:
                some = [waiting.popleft()]
                most = min(_MOST, _CELLS // some[0].size, len(waiting) // (_EACH * hands))
                some += [waiting.popleft() for _ in range(most - 1)]
                sent = [(work.for_tile(tile), tile) for tile in some]
                own = name if all(one is work for one, _ in sent) else ""
                future = self._client.submit(whole_work, sent, own, pure=False, retries=_TRIES)
                given[future.key] = (some, future)
                future.add_done_callback(ready.put)

        done = 0
        try:
            send()
            while given:
                left = len(waiting) + sum(len(some) for some, _ in given.values())
                future = self._next_of(ready, partial(progress.at, done / (done + left), doing))
                some, _ = given.pop(future.key)
                send()  # before what was found is fetched, or a worker would wait for that
                yield from zip(some, _results(future, some), strict=True)
                done += len(some)
                send()
        finally:
            self._client.cancel([future for _, future in given.values()])
        progress.at(1.0, doing)

    def _next_of(self, ready: SimpleQueue[Any], beat: Callable[[], None]) -> Any:
        """What is done next.

        Raises MossError when no worker is left, and none is begun anew.
        """
        now = looked = seen = time.monotonic()
        while now - seen < _PATIENCE:
            beat()
            with suppress(Empty):
                return ready.get(timeout=_BEAT)
            now = time.monotonic()
            if now - looked > _LOOK:
                looked = now
                with suppress(OSError):  # as when the scheduler is gone
                    seen = now if self._client.nthreads() else seen
        raise MossError("No worker is left.", f"Run it again: {_GOES_ON}")


class Ahead:
    """Workers that are still being begun: they are waited for once there is work."""

    def __init__(self, begun: Callable[[], Crew]) -> None:
        self._begun = begun

    def each(
        self, work: TileWork[D], tiles: Sequence[Tile] | Line, progress: Progress, doing: str
    ) -> Iterator[tuple[Tile, D]]:
        """Work on tiles as they do."""
        yield from self._begun().each(work, tiles, progress, doing)


def _results(future: Any, tiles: Sequence[Tile]) -> Iterator[Any]:
    from distributed import CancelledError, KilledWorker

    try:
        results = future.result()
    except CancelledError as error:
        raise MossError("The scheduler is gone.", f"Start it, and run this again: {_GOES_ON}") from error
    except KilledWorker as error:
        names = ", ".join(tile.name for tile in tiles)
        raise MossError(
            f"Workers died each time they worked on the tile{'s' * (len(tiles) > 1)} {names}.",
            "They may have too little memory: give each more, or make tiles smaller.",
        ) from error
    for result in results:
        if isinstance(result, Refused):
            raise MossError(result.what, result.do)
        yield result


@contextmanager
def workers_of(address: str, files: Sequence[Place]) -> Iterator[Cluster]:
    """The workers of a cluster that runs, at the address of its scheduler; its keys, where it has some, are
    those of Dask's configuration.

    Raises MossError when none answers, has workers, has this version, or sees these files.
    """
    if not address.startswith(("tcp://", "tls://")):
        raise AskedWronglyError(
            f"'{address}' is no address of a scheduler.", "Give one like tcp://HOST:PORT."
        )
    calm()
    from distributed import Client

    try:
        client = Client(address, timeout=WAIT, set_as_default=False)
    except (OSError, ValueError, TypeError) as error:  # a TypeError: it wants keys, and there are none
        raise MossError(
            f"No scheduler answers at {address}.",
            "Start it, or give its keys to Dask's configuration.",
            "Start it, give its keys to Dask's configuration, or leave --scheduler out to work here.",
        ) from error
    with client:
        check_workers(client, address, files)
        yield Cluster(client)


def check_workers(client: Any, address: str, files: Sequence[Place]) -> None:
    """Have all workers say who they are.

    Raises MossError where one is missing, of another version, or does not see a file.
    """
    try:
        said = client.run(_looked, list(files), on_error="return")
    except Exception as error:  # whatever a worker without this program answers
        raise MossError(f"The workers of {address} do not answer.", "Look at their logs.") from error
    if not said:
        raise MossError(f"The scheduler at {address} has no workers.", "Start some.")
    for worker, answer in said.items():
        if not isinstance(answer, tuple):
            raise MossError(
                f"The worker {worker} cannot run this program: {answer}.",
                f"Install Moss Step {__version__} there.",
            )
        version, missing = answer
        if version != __version__:
            raise MossError(
                f"The worker {worker} has version {version}, and this is {__version__}.",
                "Install the same version there.",
            )
        if missing:
            raise MossError(
                f"The worker {worker} does not see {missing[0]}.",
                "Use a folder that all workers share, or an address that all reach.",
            )


def _looked(files: list[Place]) -> tuple[str, list[str]]:
    """What a worker says of itself: its version, and which of some files it does not see. It loads what it
    needs.
    """
    for module in NEEDED:
        import_module(module)
    return __version__, [str(f) for f in files if not _is_seen(f)]


def _is_seen(file: Place) -> bool:
    try:
        return file.is_there() if isinstance(file, Address) else file.exists()
    except MossError:
        return False


def calm() -> None:
    """Have the cluster's library say less: what fails is said here.

    Raises MossError where it is not installed.
    """
    if find_spec("distributed") is None:
        raise MossError(
            "Workers need the library distributed, which is not installed.",
            "pip install 'moss-step[workers]'",
        )
    say_less()


class Once:
    """Something that each thread of each process makes once for a work, such as an open file. What it is made
    by is sent along, and it is not.
    """

    def __init__(self, make: Callable[[], Any]) -> None:
        self._make, self._held = make, threading.local()

    def __reduce__(self) -> tuple[type[Once], tuple[Callable[[], Any]]]:
        return Once, (self._make,)

    def get(self) -> Any:
        """What was made, made now if it was not."""
        if not hasattr(self._held, "made"):
            self._held.made = self._make()
        return self._held.made
