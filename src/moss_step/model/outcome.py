"""What a run of a step gives: a value of one of the kinds, and what it says of itself."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Protocol, TypeVar

import numpy as np

from moss_step.model.derived import Derived
from moss_step.model.findings import Finding
from moss_step.model.typed import of_kind

K = TypeVar("K")


class Value(Protocol):
    """A value of any kind; ``kinds/`` holds what is done with each."""

    @property
    def nbytes(self) -> int:
        """Size in memory."""

    @property
    def derived(self) -> Derived:
        """What was worked out from it, and is kept with it."""


@dataclass(frozen=True)
class Outcome:
    """What a run gives: the value, the card's main figure, findings and warnings.

    ``beside`` are the further results that the step declares, by name, each worked out when it is called.
    """

    value: Value
    figure: str
    findings: tuple[Finding, ...] = ()
    warnings: tuple[str, ...] = ()
    beside: Mapping[str, Callable[[], Outcome]] = field(default_factory=dict, compare=False, repr=False)
    lineage: str = field(default="", compare=False, repr=False)
    """How it came about, for the file that it is written into."""
    lying: Mapping[str, np.ndarray] = field(default_factory=dict, compare=False, repr=False)
    """Where the things that some findings count lie: a cell of the grid for each, by flat index. So they are
    counted once where a large ground is worked out part by part.
    """
    stated: frozenset[str] = field(default=frozenset(), compare=False, repr=False)
    """Names of findings that follow from what was asked alone: they are the same of each part."""

    def of(self, kind: type[K]) -> K | None:
        """The value when it is of a kind; for those who have something to ask of that kind alone."""
        return of_kind(self.value, kind)
