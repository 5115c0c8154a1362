"""One thread that answers the newest wish and forgets the ones before; a fault in one never keeps the next
from its turn.
"""

from __future__ import annotations

import logging
import threading
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import Generic, TypeVar

W = TypeVar("W")
_log = logging.getLogger(__name__)


class NewestWins(Generic[W]):
    """Calls ``answer`` with the newest wish in a thread of its own, ``failed`` with one that ended in an
    error, and ``rested`` when none is left.
    """

    def __init__(
        self,
        answer: Callable[[W], None],
        failed: Callable[[W, BaseException], None],
        rested: Callable[[], None] = lambda: None,
    ) -> None:
        self._answer, self._failed, self._rested = answer, failed, rested
        self._pool = ThreadPoolExecutor(1)
        self._lock = threading.Lock()
        self._next: list[W] = []
        self._busy = self._closed = False

    @property
    def busy(self) -> bool:
        """Whether a wish is answered or waits."""
        return self._busy

    def wish(self, wish: W) -> None:
        """Ask for something; it takes the place of what waits. After the end nothing is answered any more."""
        with self._lock:
            if self._closed:
                return
            self._next = [wish]
            if not self._busy:
                self._busy = True
                self._pool.submit(self._work)

    def forget(self) -> None:
        """Let go of the wish that waits."""
        with self._lock:
            self._next = []

    def close(self, last: Callable[[], None] | None = None) -> None:
        """End the thread, with something that has to be done in it last."""
        with self._lock:
            self._next, self._closed = [], True
        if last is not None:
            self._pool.submit(last)
        self._pool.shutdown(wait=True)

    def _work(self) -> None:
        while True:
            with self._lock:
                wish = self._next.pop() if self._next else None
                self._busy = wish is not None
            if wish is None:
                self._rested()
                return
            try:
                self._answer(wish)
            except BaseException as error:
                _log.exception("a wish could not be answered")
                self._failed(wish, error)
