"""What a campaign tried and what it found."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, field

KINDS = ("traceback", "outside", "network", "lost", "hang", "crash", "noise", "wrong")
"""Faults: a traceback, a file outside, a request to the network, work lost, more than the bound without an answer, a native crash, lines on
standard error that are not ours, a file that is neither old nor whole, a number that comes
out otherwise in another way."""


@dataclass
class Tally:
    """Counts of one campaign, with its faults in words."""

    name: str
    tried: int = 0
    answers: Counter[str] = field(default_factory=Counter)
    faults: list[tuple[str, str]] = field(default_factory=list)
    slowest: float = 0.0
    slowest_case: str = ""

    def fault(self, kind: str, what: str) -> None:
        """Keep a fault of one of the kinds."""
        if kind not in KINDS:
            raise ValueError(kind)
        self.faults.append((kind, what))

    def took(self, seconds: float, what: str) -> None:
        """Keep how long a case took."""
        if seconds > self.slowest:
            self.slowest, self.slowest_case = seconds, what
