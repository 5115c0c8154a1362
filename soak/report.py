"""The page of the docs on reliability: what is promised, what was tried, what was found."""

from __future__ import annotations

import re
from collections.abc import Sequence
from pathlib import Path

from soak.tally import KINDS, Tally

PROMISE = Path(__file__).with_name("promise.md")


OTHERS = "\n## What other runs found\n"
"""Heading of what is written by hand below the counts."""


def text_of(tallies: Sequence[Tally], minutes: float, seed: int) -> str:
    """The page with the counts of a run."""
    rows = [
        f"| {t.name} | {t.tried:,} | {answers(t)} | {len(t.faults)} | {t.slowest:.1f} s |" for t in tallies
    ]
    faults = {kind: sum(k == kind for t in tallies for k, _ in t.faults) for kind in KINDS}
    found = [f"- {kind}: {count}" for kind, count in faults.items()]
    words = [f"- {t.name}: {re.sub(r'/tmp/[^/ ]+/', '', what)}" for t in tallies for _, what in t.faults]
    return "\n".join([
        PROMISE.read_text().rstrip(), "", "## What was tried", "", f"A run of {minutes:g} minutes from seed {seed} (`make soak MINUTES={minutes:g}`):", "",
        "| Campaign | Cases | Answers | Faults | Longest answer |", "|---|---:|---|---:|---:|", *rows, "", "## What was found", "", *found,
        *(["", "In words:", "", *words] if words else []), "",
    ])  # fmt: skip


def answers(tally: Tally) -> str:
    """How cases were answered, the most frequent first."""
    return ", ".join(f"{count:,} {name}" for name, count in tally.answers.most_common())
