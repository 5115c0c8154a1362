"""Segments of a cloud, coloured so that neighbours differ."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Self

import numpy as np

from moss_step.model.class_map import ClassEntry, ClassMap
from moss_step.model.rules import RuleSet
from moss_step.model.telling import USUAL, Telling
from moss_step.scene.colors import NO_SEGMENT, SEGMENTS
from moss_step.scene.grids import halved
from moss_step.scene.kinds.classes import ClassesPicture
from moss_step.scene.picture import Legend
from moss_step.study.graph import KeyRow


def colors_of(numbers: np.ndarray, count: int) -> np.ndarray:
    """A colour (uint8, count + 1) for each number of a grid (rows, cols) of them: from 1 on those that lie
    side by side differ, as long as there are colours (greedy colouring, Welsh & Powell 1967); 0 for none.
    """
    colors = np.arange(count + 1) % len(SEGMENTS) + 1
    colors[0] = 0
    pairs = _beside(numbers)
    if len(pairs):
        both = np.concatenate([pairs, pairs[:, ::-1]])
        both = both[np.lexsort((both[:, 1], both[:, 0]))]
        ends = np.searchsorted(both[:, 0], np.arange(count + 2))
        done = np.zeros(count + 1, bool)
        for number in np.argsort(-np.diff(ends), kind="stable"):
            near = both[ends[number] : ends[number + 1], 1]
            taken = set(colors[near[done[near]]].tolist())
            wish = int(colors[number])
            if number and wish in taken:
                free = [c for c in range(1, len(SEGMENTS) + 1) if c not in taken]
                colors[number] = free[number % len(free)] if free else wish
            done[number] = True
    return colors.astype(np.uint8)


def _beside(numbers: np.ndarray) -> np.ndarray:
    """Pairs of numbers that lie side by side, or with one cell between them."""
    found = [np.empty((0, 2), np.int64)]
    for rows, cols in ((0, 1), (0, 2), (1, 0), (2, 0), (1, 1), (1, -1)):
        a = numbers[: numbers.shape[0] - rows, max(-cols, 0) : numbers.shape[1] - max(cols, 0)]
        b = numbers[rows:, max(cols, 0) : numbers.shape[1] - max(-cols, 0)]
        differ = (a != b) & (a > 0) & (b > 0)
        if differ.any():
            both = np.column_stack([a[differ], b[differ]]).astype(np.int64)
            found.append(np.unique(np.sort(both, axis=1), axis=0))
    return np.unique(np.concatenate(found), axis=0)


def entries() -> tuple[ClassEntry, ...]:
    """The colours as classes."""
    none = ClassEntry(0, "In no segment", NO_SEGMENT)
    return (none, *(ClassEntry(k, f"Segments {k}", color) for k, color in enumerate(SEGMENTS, start=1)))


@dataclass(frozen=True, eq=False)
class SegmentsPicture(ClassesPicture):
    """Colours of segments; which is which says the reading."""

    kind = ""
    segments: int = 0

    @classmethod
    def from_codes(cls, value: ClassMap, segments: int) -> Self:
        """A grid of colours, and how many segments have them."""
        return cls(value, halved(value.codes, smooth=False), segments=segments)

    def legend(self, row: KeyRow, ranges: RuleSet | None, color: str, telling: Telling = USUAL) -> Legend:
        """How many there are."""
        said = f"{self.segments:,} segments".replace(",", " ") if self.segments != 1 else "1 segment"
        return Legend(title=said)
