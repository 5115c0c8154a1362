"""One store for results and all that was worked out from them, up to a budget of memory.

What goes first when it is full: results of steps that are only being made, then what can be worked out again
from a result, then results by what it costs to work them out again a byte, and how long ago they were used:
the method "GreedyDual-Size" of Cao & Irani 1997, Cost-aware WWW proxy caching algorithms, USENIX Symposium on
Internet Technologies and Systems.
"""

from __future__ import annotations

import os
import threading
from collections.abc import Collection
from dataclasses import dataclass

from moss_step.kinds.registry import kind_of
from moss_step.model.findings import Finding
from moss_step.model.memory import free_memory
from moss_step.model.outcome import Outcome

SHARE = 0.5
"""Part of the memory that is free, or held by results already, that these may take."""
LEAST = 256_000_000
SETTING = "MOSS_STEP_MEMORY"
"""Environment variable that names the gigabytes that results may take."""


@dataclass(frozen=True)
class Said:
    """What a result says of itself, which is kept when its value is not."""

    figure: str
    findings: tuple[Finding, ...]
    warnings: tuple[str, ...]
    kind: type
    quantity: str
    described: str


@dataclass
class _Held:
    outcome: Outcome
    seconds: float
    passing: bool
    worth: float

    @property
    def nbytes(self) -> int:
        return self.outcome.value.nbytes + self.outcome.value.derived.nbytes


class Store:
    """Results by their keys. Safe to ask from several threads."""

    def __init__(self, most_bytes: int | None = None) -> None:
        self._most_bytes = most_bytes
        self.gigabytes = 0.0
        """What a person gives it; 0 is a share of what is free."""
        self._held: dict[str, _Held] = {}
        self._said: dict[str, Said] = {}
        self._clock = 0.0
        self._lock = threading.RLock()

    def __contains__(self, key: str | None) -> bool:
        return key is not None and key in self._held

    @property
    def nbytes(self) -> int:
        """Bytes of all results and of what was worked out from them."""
        with self._lock:
            return sum(h.nbytes for h in self._held.values())

    @property
    def budget(self) -> int:
        """Bytes that all of it may take now."""
        if self._most_bytes is not None:
            return self._most_bytes
        return budget_from(os.environ.get(SETTING) or str(self.gigabytes), self.nbytes)

    def get(self, key: str | None) -> Outcome | None:
        """Give a result, which counts as used by that."""
        with self._lock:
            held = None if key is None else self._held.get(key)
            if held is None:
                return None
            held.worth = self._worth(held)
            return held.outcome

    def said(self, key: str | None) -> Said | None:
        """What a result said of itself, whether its value is still here or not."""
        return None if key is None else self._said.get(key)

    def put(self, key: str, outcome: Outcome, seconds: float, passing: bool = False) -> None:
        """Keep a result that took some seconds to work out; a ``passing`` one goes before all others."""
        held, described = (
            _Held(outcome, seconds, passing, 0.0),
            kind_of(outcome.value).describe(outcome.value),
        )
        with self._lock:
            held.worth = self._worth(held)
            self._held[key] = held
            value = outcome.value
            quantity = getattr(value, "quantity", "")
            self._said[key] = Said(
                outcome.figure, outcome.findings, outcome.warnings, type(value), quantity, described
            )

    def tell(self, key: str, said: Said) -> None:
        """Keep what a result says of itself whose value is not here."""
        with self._lock:
            self._said[key] = said

    def settle(self, key: str | None) -> None:
        """A result that was passing belongs to the study now."""
        with self._lock:
            if key is not None and key in self._held:
                self._held[key].passing = False

    def drop(self, key: str) -> None:
        """Let go of a result, and of what it said."""
        with self._lock:
            self._said.pop(key, None)
            self._let_go(key)

    def keep_only(self, keys: Collection[str]) -> None:
        """Let go of all other results."""
        with self._lock:
            for key in [k for k in self._said if k not in keys]:
                self.drop(key)

    def room_for(self, nbytes: int) -> bool:
        """Whether so many bytes fit without another result going."""
        return self.nbytes + nbytes <= self.budget

    def trim(self, needed: Collection[str]) -> None:
        """Let go of what counts least until the rest fits; never of results that are ``needed``."""
        with self._lock:
            budget, size = self.budget, self.nbytes
            free = sorted((h.worth, k) for k, h in self._held.items() if k not in needed)
            for _, key in [f for f in free if self._held[f[1]].passing]:
                if size <= budget:
                    return
                size -= self._let_go(key)
            for _, key in [f for f in free if f[1] in self._held]:
                if size <= budget:
                    return
                derived = self._held[key].outcome.value.derived
                size -= derived.nbytes
                derived.clear()
            for worth, key in [f for f in free if f[1] in self._held]:
                if size <= budget or len(self._held) == 1:
                    return
                size -= self._let_go(key)
                self._clock = max(self._clock, worth)

    def _let_go(self, key: str) -> int:
        held = self._held.pop(key, None)
        if held is None:
            return 0
        nbytes = held.nbytes
        held.outcome.value.derived.clear()  # it points back at the value
        return nbytes

    def _worth(self, held: _Held) -> float:
        return self._clock + held.seconds / max(held.outcome.value.nbytes, 1)


def budget_from(setting: str, held: int) -> int:
    """Bytes that results may take: the gigabytes of a setting, or a share of what is free and of what is
    ``held`` by them already.
    """
    try:
        asked = float(setting)
    except ValueError:
        asked = 0.0
    return max(int(asked * 1e9) if asked > 0 else int(SHARE * (free_memory() + held)), LEAST)
