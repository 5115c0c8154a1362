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
"""How many processes for each that is wanted may end, one after another, so many seconds after they began."""


class Hands:
    """So many processes, begun at once: they load while the scheduler is begun. One that ends is replaced."""

    def __init__(self, count: int, threads: int) -> None:
        self._env = {**os.environ, **KEPT_FREED, "PYTHONPATH": os.pathsep.join(p for p in sys.path if p)}
        for library in ("NUMBA", "OMP", "OPENBLAS", "MKL"):
            self._env[f"{library}_NUM_THREADS"] = str(threads)
        self._told, self._over, self._vain = "", threading.Event(), 0
        self._folder = tempfile.TemporaryDirectory(prefix="moss-step-workers-", ignore_cleanup_errors=True)
        self._held = [self._one() for _ in range(count)]
        self._since = [time.monotonic()] * count
        self._keeper = threading.Thread(target=self._keep, daemon=True)

    def __len__(self) -> int:
        return len(self._held)

    @property
    def in_vain(self) -> bool:
        """Whether one after another ended soon, and no more are begun."""
        return self._vain >= _VAIN * len(self._held)

    def join(self, scheduler: str, keys: dict[str, str]) -> None:
        """Have them work for a scheduler, with the keys that it wants."""
        asked = {"scheduler": scheduler, "keys": keys, "folder": self._folder.name}
        self._told = json.dumps(asked) + "\n"
        for one in self._held:
            self._tell(one)
        self._keeper.start()

    def end(self) -> None:
        """Have them end, at once if they do not by themselves."""
        self._over.set()
        if self._keeper.ident is not None:
            self._keeper.join()
        for one in self._held:
            if one.stdin is not None:
                with suppress(OSError):  # it is gone
                    one.stdin.close()
        until = time.monotonic() + _LEAVING
        for one in self._held:
            try:
                one.wait(max(0.0, until - time.monotonic()))
            except subprocess.TimeoutExpired:
                one.kill()
                one.wait()
        self._folder.cleanup()

    def _one(self) -> subprocess.Popen[str]:
        words = [sys.executable, "-P", "-m", "moss_step.large.hand"]
        return subprocess.Popen(words, stdin=subprocess.PIPE, env=self._env, text=True)  # noqa: S603 - this program itself

    def _tell(self, one: subprocess.Popen[str]) -> None:
        if one.stdin is not None:
            with suppress(BrokenPipeError):  # it is gone: another one is begun
                one.stdin.write(self._told)
                one.stdin.flush()

    def _keep(self) -> None:
        while not self._over.wait(_LOOK) and not self.in_vain:
            for k in [k for k, one in enumerate(self._held) if one.poll() is not None]:
                now = time.monotonic()
                self._vain = self._vain + 1 if now - self._since[k] < _SOON else 0
                with suppress(OSError):  # not now: it is tried again
                    self._held[k], self._since[k] = self._one(), now
                    self._tell(self._held[k])


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
