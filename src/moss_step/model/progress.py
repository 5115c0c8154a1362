"""How a long run tells how far it is and learns that it should stop."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any

import numpy as np

from moss_step.model.errors import StoppedError

_BEAT = 0.2
"""Seconds between two reports of a kernel."""
Pulse = np.ndarray
"""Two int64: a kernel adds to the first what it has done, and returns early once the second is not 0."""


class Progress:
    """Passed into long work: ``at`` reports a fraction of 1 and raises StoppedError once ``stop`` was
    called.
    """

    def __init__(
        self,
        tell: Callable[[float, str], None] | None = None,
        show: Callable[[Callable[[], Any]], None] | None = None,
    ) -> None:
        """``tell`` is told of each report; ``show`` is offered parts of the result, which it may make."""
        self._tell, self._show = tell, show
        self._stop = threading.Event()
        self._doing = ""

    def stop(self) -> None:
        """Ask the work to end at its next report."""
        self._stop.set()

    @property
    def stopped(self) -> bool:
        """Whether the work was asked to end."""
        return self._stop.is_set()

    def at(self, fraction: float, doing: str = "") -> None:
        """Report how far the work is and what it does; raise StoppedError if it should end."""
        if self._stop.is_set():
            raise StoppedError
        self._doing = doing or self._doing
        if self._tell is not None:
            self._tell(min(max(fraction, 0.0), 1.0), self._doing)

    def part(self, low: float, high: float) -> Progress:
        """A progress for a part of the work, from one fraction to another: what is reported in it moves this
        one, and stopping this stops it.
        """
        return self._heard(lambda fraction, doing: self.at(low + (high - low) * fraction, doing))

    def measured(self, how: Callable[[], float]) -> Progress:
        """A progress for work that finds out on the way how much there is: ``how`` says how far it is."""
        return self._heard(lambda _, doing: self.at(how(), doing))

    def _heard(self, tell: Callable[[float, str], None]) -> Progress:
        heard = Progress(tell)
        heard._stop, heard._show = self._stop, self._show
        return heard

    def show(self, make: Callable[[], Any]) -> None:
        """Offer what there is of the result so far, to be drawn; it is made only where somebody draws it."""
        if self._show is not None:
            self._show(make)

    @contextmanager
    def pulse(self, total: int, low: float = 0.0, high: float = 1.0, doing: str = "") -> Iterator[Pulse]:
        """Have one long call of a kernel report and stop: it adds to a ``Pulse`` what it has done of
        ``total``, here or in any thread.

        Raises StoppedError at the end when stopped meanwhile: what the kernel gave is incomplete then.
        """
        self.at(low, doing)
        pulse, over = np.zeros(2, np.int64), threading.Event()

        def beat() -> None:
            while not over.wait(_BEAT):
                try:
                    self.at(low + (high - low) * min(int(pulse[0]) / max(total, 1), 1.0), doing)
                except StoppedError:
                    pulse[1] = 1
                    return

        beater = threading.Thread(target=beat, daemon=True)
        beater.start()
        try:
            yield pulse
        finally:
            over.set()
            beater.join()
        self.at(high, doing)

    def blocks(self, rows: int, size: int, doing: str) -> Iterator[tuple[int, int]]:
        """Split ``rows`` in blocks, with a report before each."""
        for start in range(0, rows, size):
            self.at(start / rows, doing)
            yield start, min(start + size, rows)
        self.at(1.0, doing)


def silent() -> Progress:
    """Give a progress that tells nobody."""
    return Progress()
