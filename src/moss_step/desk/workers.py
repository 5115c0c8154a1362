"""Who works on grounds too large for memory, as it is preferred, and what they are doing."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path

from PySide6.QtCore import QObject, Signal

from moss_step.desk.preferences import Preferences
from moss_step.large.crew import Alone, Cluster, Crew, workers_of
from moss_step.large.hands import workers_here
from moss_step.model.errors import MossError
from moss_step.model.mapped import roomy_folder
from moss_step.model.outcome import Outcome, Value
from moss_step.model.progress import Progress
from moss_step.steps.declare import Settings, StepKind

_EVERY = 1.0
"""Seconds between two looks at workers that work."""
CLUSTER = -1
"""What stands for a cluster in place of a number of workers."""


class Workers(QObject):
    """Gives a crew to those who ask in a thread of their own, and says what it does."""

    changed = Signal()
    """The state is another."""
    _said = Signal(str)

    def __init__(self, preferences: Callable[[], Preferences], parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._preferences = preferences
        self._working = ""
        self._looked = ""
        self._said.connect(self._take)

    @property
    def state(self) -> str:
        """What the workers are doing, or what a look at the scheduler found."""
        return self._working or self._looked or self.idle

    @property
    def idle(self) -> str:
        """What is said while nobody works."""
        held = self._preferences()
        if held.workers == 0:
            return "None are needed: this program works on all cores itself."
        if held.workers == CLUSTER:
            return "They are asked when a large step begins." if held.scheduler else "Give the address."
        return "They start when a large step begins, and end with it."

    @contextmanager
    def crew(self, folder: Path) -> Iterator[Crew]:
        """Who works on tiles in a folder.

        Raises MossError where the workers cannot be had.
        """
        held = self._preferences()
        if held.workers == 0:
            yield Alone()
            return
        self._said.emit("They are being started.")
        try:
            there = held.workers == CLUSTER
            begun = workers_of(held.scheduler, [folder]) if there else workers_here(held.workers)
            with begun as some, self._watched(some):
                yield some
        finally:
            self._said.emit("")

    def in_tiles(
        self, step: StepKind, settings: Settings, inputs: Mapping[str, Value], progress: Progress
    ) -> Outcome | None:
        """Work a step out on mapped grounds, as ``InTiles`` does."""
        from moss_step.large.mapped import InTiles  # takes long to load, and few need it

        return InTiles(self.crew, self.place)(step, settings, inputs, progress)

    def place(self) -> Path:
        """The folder for files on the way: one that the workers of a cluster see, too."""
        held = self._preferences()
        there = held.workers == CLUSTER and held.shared
        return Path(held.shared).expanduser().absolute() if there else roomy_folder()

    def look(self, folder: Path) -> str:
        """Ask the workers who they are; gives what they say, or why they cannot be asked."""
        held = self._preferences()
        if held.workers != CLUSTER:
            return ""
        try:
            with workers_of(held.scheduler, [folder]) as some:
                return some.said()
        except MossError as error:
            return error.on_screen(str)

    def found(self, said: str) -> None:
        """Show what a look found."""
        self._looked = said
        self.changed.emit()

    @contextmanager
    def _watched(self, some: Cluster) -> Iterator[None]:
        over = threading.Event()

        def watch() -> None:
            while True:
                try:
                    self._said.emit(some.said())
                except (OSError, TimeoutError, RuntimeError):  # it is going down: the work itself says why
                    return
                if over.wait(_EVERY):
                    return

        watcher = threading.Thread(target=watch, daemon=True)
        watcher.start()
        try:
            yield
        finally:
            over.set()
            watcher.join(timeout=5.0)

    def _take(self, said: str) -> None:
        self._working = said
        self.changed.emit()
