"""Works on a whole ground that go tile by tile all the same: by the kind of step that they answer."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any, Protocol

from moss_step.formats.address import Place
from moss_step.formats.tiled import TiledFile
from moss_step.large.crew import Crew
from moss_step.large.held import OnDisk
from moss_step.large.passing import Passing
from moss_step.model.findings import Finding
from moss_step.model.frame import Frame
from moss_step.model.outcome import Outcome, Value
from moss_step.model.progress import Progress
from moss_step.model.summary import Summary


class NotInTilesError(Exception):
    """A work found, once it was begun, that its step goes another way."""


@dataclass(frozen=True)
class Told:
    """What a work says of its result; ``outcome`` holds one that fits in memory, such as a table."""

    findings: tuple[Finding, ...]
    warnings: tuple[str, ...]
    outcome: Outcome | None = None
    wrong: tuple[str, ...] = ()
    summary: Summary | None = None
    """Of all values of a grid."""
    figure: str = ""
    """What stands for the result in a word or two; empty for what its values say."""
    beside: Mapping[str, Callable[[], Outcome]] = field(default_factory=dict)
    """What a step gives beside a grid, by name; that of an outcome stands in the outcome."""


def told_of(outcome: Outcome, wrong: tuple[str, ...] = ()) -> Told:
    """What is said of a result that fits in memory; ``wrong`` are parts that could not be read."""
    return Told(outcome.findings, outcome.warnings, outcome, wrong)


@dataclass(frozen=True)
class OnGrid:
    """What works have of the grid that they are on, with the settings of their step."""

    grid: OnDisk
    settings: Any

    @property
    def frame(self) -> Frame:
        """Frame of the grid."""
        return self.grid.frame

    @property
    def like(self) -> Value | None:
        """A value such as its result is in a tile; none where it gives no grid."""
        return None

    @property
    def besides(self) -> bool:
        """Whether its outcome holds what the step gives beside the main result."""
        return True


class Whole(Protocol):
    """One work on one ground."""

    @property
    def like(self) -> Value | None:
        """A value such as its result is in a tile; None where it gives no grid."""

    @property
    def besides(self) -> bool:
        """Whether its outcome holds what the step gives beside the main result."""

    @property
    def frame(self) -> Frame:
        """Frame of the ground."""

    def run(
        self, crew: Crew, target: TiledFile | None, folder: Place, cells: int, progress: Progress
    ) -> Told:
        """Do it: tiles of about so many cells, with a folder for what is needed on the way."""


Fed = Mapping[str, OnDisk | Passing | Value]
