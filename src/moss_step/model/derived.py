"""What was worked out from one value and can be worked out again: kept with it, counted, and let go with it
or before.
"""

from __future__ import annotations

import threading
from collections.abc import Callable
from typing import Protocol, TypeVar

from moss_step.model.progress import Progress, silent


class Sized(Protocol):
    """Something whose size in memory is known."""

    @property
    def nbytes(self) -> int:
        """Bytes beside the value that it was made from."""


T = TypeVar("T", bound=Sized)


class Derived:
    """Things by their types, each made once: a picture of a result, a ground prepared for water. Safe to ask
    from several threads.
    """

    def __init__(self) -> None:
        self._kept: dict[type, Sized] = {}
        self._making: dict[type, threading.Lock] = {}
        self._lock = threading.Lock()

    def __reduce__(self) -> tuple[type[Derived], tuple[()]]:
        """A copy that goes to another process holds nothing: it is worked out there, where it is asked
        for.
        """
        return Derived, ()

    def ready(self, kind: type[T]) -> T | None:
        """Give what was made of one type."""
        with self._lock:
            result = self._kept.get(kind)
        return result if isinstance(result, kind) else None

    def make(self, kind: type[T], work: Callable[[], T], progress: Progress | None = None) -> T:
        """Give what was made of one type, or make it: who asks for it meanwhile waits, and finds it done.

        Raises StoppedError when stopped while it waits.
        """
        with self._lock:
            making = self._making.setdefault(kind, threading.Lock())
        while not making.acquire(timeout=0.1):
            (progress or silent()).at(0.0, "Waiting for the same work")
        try:
            result = self.ready(kind)
            if result is None:
                result = work()
                with self._lock:
                    self._kept[kind] = result
            return result
        finally:
            making.release()

    def put(self, result: Sized) -> None:
        """Keep something in the place of what was made of its type before."""
        with self._lock:
            self._kept[type(result)] = result

    @property
    def nbytes(self) -> int:
        """Bytes of all that was made."""
        with self._lock:
            return sum(m.nbytes for m in self._kept.values())

    def clear(self) -> None:
        """Let go of all that was made; it is made again when it is asked for."""
        with self._lock:
            self._kept.clear()
