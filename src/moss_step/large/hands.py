"""Workers that are begun on this machine, each as a process, and end with what they were begun for."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor, wait
from contextlib import ExitStack, contextmanager, suppress
from importlib import import_module
from typing import Any

from moss_step.large.crew import Cluster, calm
from moss_step.large.hand import LEAN
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.memory import KEPT_FREED

_ANY_PORT = "127.0.0.1:0"
"""Where a scheduler says how it is: where nothing is said, a second one finds the port of the first in
use.
"""
_LOOK, _JOINING, _LEAVING = 0.1, 120.0, 3.0
"""Seconds between two looks whether all are there; in which they have joined; in which they have ended."""
_VAIN, _SOON = 3, 10.0
"""How many processes that keep workers may end, one after another, so many seconds after they began."""


class Hands:
    """So many workers, kept by a process that is begun at once: it loads while the scheduler is begun. Where
    it ends it is begun anew, as each worker is by it.
    """

    def __init__(self, count: int, threads: int) -> None:
        self._count, self._told, self._over, self._vain = count, "", threading.Event(), 0
        self._env = {**os.environ, **KEPT_FREED, "PYTHONPATH": os.pathsep.join(p for p in sys.path if p)}
        self._env |= {"NUMBA_NUM_THREADS": str(threads), "OMP_NUM_THREADS": str(threads)}
        self._env |= {"OPENBLAS_NUM_THREADS": "1", "MKL_NUM_THREADS": "1"}
        self._folder = tempfile.TemporaryDirectory(prefix="moss-step-workers-", ignore_cleanup_errors=True)
        self._begin()
        self._keeper = threading.Thread(target=self._keep, daemon=True)

    def __len__(self) -> int:
        return self._count

    @property
    def in_vain(self) -> bool:
        """Whether one process after another ended soon, and no more are begun."""
        return self._vain >= _VAIN

    def join(self, scheduler: str, keys: dict[str, Any]) -> None:
        """Have them work for a scheduler, with the keys that it wants."""
        asked = {"count": self._count, "scheduler": scheduler, "keys": keys, "folder": self._folder.name}
        self._told = json.dumps(asked) + "\n"
        self._tell()
        self._keeper.start()

    def end(self) -> None:
        """Have them end, at once if they do not by themselves."""
        self._over.set()
        if self._keeper.ident is not None:
            self._keeper.join()
        if self._held.stdin is not None:
            with suppress(OSError):  # it is gone
                self._held.stdin.close()
        try:
            self._held.wait(_LEAVING)
        except subprocess.TimeoutExpired:
            self._held.kill()
            self._held.wait()
        self._folder.cleanup()

    def _begin(self) -> None:
        words = [sys.executable, "-P", "-m", "moss_step.large.hand"]
        self._held = subprocess.Popen(words, stdin=subprocess.PIPE, env=self._env, text=True)  # noqa: S603 - this program itself
        self._since = time.monotonic()

    def _tell(self) -> None:
        if self._held.stdin is not None:
            with suppress(BrokenPipeError):  # it is gone: another one is begun
                self._held.stdin.write(self._told)
                self._held.stdin.flush()

    def _keep(self) -> None:
        while not self._over.wait(_LOOK) and not self.in_vain:
            if self._held.poll() is not None:
                self._vain = self._vain + 1 if time.monotonic() - self._since < _SOON else 0
                with suppress(OSError):  # not now: it is tried again
                    self._begin()
                    self._tell()


@contextmanager
def workers_here(count: int) -> Iterator[Cluster]:
    """Some processes of this machine, each with its share of the cores, or fewer where NUMBA_NUM_THREADS says
    so; they end with the block. They talk by TLS with keys that are made for it: nobody else on this machine
    can send them work.

    Raises AskedWronglyError for a number that is not possible.
    """
    with workers_ahead(count) as begun:
        yield begun()


@contextmanager
def workers_ahead(count: int) -> Iterator[Callable[[], Cluster]]:
    """The same, begun in a thread while something else is done: what it gives waits for them.

    Raises AskedWronglyError for a number that is not possible, MossError where they cannot be begun.
    """
    if not 1 <= count <= 256:
        raise AskedWronglyError(f"{count} workers are not possible.", "It is 1 to 256.")
    calm()
    cores = os.cpu_count() or 1
    asked = os.environ.get("NUMBA_NUM_THREADS", "")
    most = int(asked) if asked.isdecimal() else cores
    with _ended() as held, ThreadPoolExecutor(1) as pool:
        with _said():
            hands = Hands(count, max(1, min(cores // count, most)))
        held.callback(hands.end)
        import_module(
            "distributed"
        )  # in this thread: two that import the same libraries may meet half of one
        import_module("numba")
        begun = pool.submit(_begin, hands, held)
        try:
            yield begun.result
        finally:
            wait([begun])


@contextmanager
def _ended() -> Iterator[ExitStack]:
    """What is to be ended after all. A scheduler that the system still writes for ends later than its library
    waits: that is no failure of the work, and hides none.
    """
    with ExitStack() as held:
        try:
            yield held
        finally:
            with suppress(TimeoutError):
                held.close()


@contextmanager
def _said() -> Iterator[None]:
    """Say what hinders workers from being begun."""
    try:
        yield
    except (RuntimeError, OSError) as error:
        raise MossError(
            f"Workers could not be begun here: {error}.", "Take fewer of them, or none."
        ) from error


def _begin(hands: Hands, held: ExitStack) -> Cluster:
    import dask
    from distributed import Client, LocalCluster
    from distributed.security import Security

    keys = Security.temporary()
    held.enter_context(dask.config.set(LEAN))
    with _said():
        cluster = held.enter_context(
            LocalCluster(
                n_workers=0,
                host="127.0.0.1",
                protocol="tls://",
                security=keys,
                dashboard_address=None,
                scheduler_kwargs={"dashboard_address": _ANY_PORT},
            )
        )
        hands.join(cluster.scheduler_address, _as_words(keys))
        client = held.enter_context(Client(cluster, set_as_default=False))
        _wait(client, hands)
    return Cluster(client)


def _as_words(keys: Any) -> dict[str, Any]:
    names = "tls_ca_file", "tls_worker_key", "tls_worker_cert"
    return {"require_encryption": True, **{n: str(getattr(keys, n)) for n in names}}


def _wait(client: Any, hands: Hands) -> None:
    """Wait until all have joined.

    Raises OSError where they do not.
    """
    until = time.monotonic() + _JOINING
    while len(client.scheduler_info(n_workers=-1)["workers"]) < len(hands):
        if hands.in_vain:
            raise OSError("they end before they have joined")
        if time.monotonic() > until:
            raise OSError(f"they have not joined within {_JOINING:.0f} seconds")
        time.sleep(_LOOK / 2)
