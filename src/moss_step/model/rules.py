"""Class rules: which range of values belongs to which class, and what is wrong with a set of them."""

from __future__ import annotations

import math
import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Literal

import numpy as np

from moss_step.model.class_map import NO_CLASS, ClassEntry
from moss_step.model.errors import AskedWronglyError

Closed = Literal["upper", "lower"]
"""Which end of a range belongs to it: ``upper`` is (a, b], ``lower`` is [a, b)."""

COLOR = re.compile(r"#[0-9a-fA-F]{6}")


@dataclass(frozen=True)
class Rule:
    """One range and its class. A bound of None is open; ``low > high`` wraps through north; equal ones hold
    one.
    """

    low: float | None
    high: float | None
    code: int
    name: str
    color: str

    def __post_init__(self) -> None:
        """Refuse bounds, codes and colours that cannot be used."""
        if not 0 <= self.code < NO_CLASS:
            raise AskedWronglyError(
                f"Class {self.code} is not possible.", f"Use a whole number from 0 to {NO_CLASS - 1}."
            )
        if not COLOR.fullmatch(self.color):
            raise AskedWronglyError(f"'{self.color}' is not a colour.", "Write it like #4C6B34.")
        for bound in (self.low, self.high):
            if bound is not None and not math.isfinite(bound):
                raise AskedWronglyError(f"A bound of {bound} is not possible.", "Leave an open end empty.")

    @property
    def wraps(self) -> bool:
        """Whether the range runs through north."""
        return self.low is not None and self.high is not None and self.low > self.high

    @property
    def is_point(self) -> bool:
        """Whether the range holds a single value."""
        return self.low is not None and self.low == self.high

    def holds(self, value: float, closed: Closed) -> bool:
        """Whether a value belongs to this range, by its own two ends alone."""
        low = -math.inf if self.low is None else self.low
        high = math.inf if self.high is None else self.high
        if self.is_point:
            return value == low
        above = value > low if closed == "upper" else value >= low
        below = value <= high if closed == "upper" else value < high
        if self.wraps:  # only bearings wrap; "flat" and other values outside 0 to 360 are none
            return 0.0 <= value <= 360.0 and (above or below)
        return above and below

    def text(self, symbol: str = "", closed: Closed = "upper") -> str:
        """Say the range as a person reads it; an open end says whether its bound belongs to it."""
        if self.low is None and self.high is None:
            return "all"
        if self.is_point:
            return number_text(self.low)
        if self.low is None:
            return f"{'up to' if closed == 'upper' else 'below'} {number_text(self.high)}{symbol}"
        if self.high is None:
            return f"{'over' if closed == 'upper' else 'from'} {number_text(self.low)}{symbol}"
        return f"{number_text(self.low)} – {number_text(self.high)}{symbol}"


@dataclass(frozen=True)
class Region:
    """A stretch between two neighbouring bounds (open at both ends), or one bound itself when ``low ==
    high``.
    """

    low: float
    high: float

    @property
    def sample(self) -> float:
        """A value inside."""
        if self.low == -math.inf:
            return self.high - 1.0 if math.isfinite(self.high) else 0.0
        return self.low + 1.0 if self.high == math.inf else (self.low + self.high) / 2.0

    def text(self) -> str:
        """Say the region as a person reads it."""
        if self.low == self.high:
            return f"exactly {number_text(self.low)}"
        return f"between {number_text(self.low)} and {number_text(self.high)}"


@dataclass(frozen=True)
class RuleSet:
    """Rules in order; where two hold a value, the first one takes it.

    The lowest bound of all belongs to its class even when ranges are closed above (and the highest when they
    are closed below), unless the set wraps through north.
    """

    rules: tuple[Rule, ...]
    closed: Closed = "upper"
    double: bool = False
    """Whether bounds are taken as typed; else as single precision stores them, as most values are."""

    def __post_init__(self) -> None:
        """Refuse sets that give one class two names."""
        if not self.rules:
            raise AskedWronglyError("The class table is empty.", "Add at least one range.")
        seen: dict[int, Rule] = {}
        for rule in self.rules:
            first = seen.setdefault(rule.code, rule)
            if first.name != rule.name:
                raise AskedWronglyError(
                    f"Class {rule.code} is called both '{first.name}' and '{rule.name}'.", "Give it one name."
                )

    @property
    def wraps(self) -> bool:
        """Whether a range runs through north."""
        return any(r.wraps for r in self.rules)

    @property
    def bounds(self) -> list[float]:
        """All finite bounds as they are compared, ascending, each once; 0 and 360 too when the set wraps."""
        result = {self._stored(b) for r in self.rules for b in (r.low, r.high) if b is not None}
        if self.wraps:
            result |= {0.0, 360.0}
        return sorted(result)

    @property
    def entries(self) -> tuple[ClassEntry, ...]:
        """The classes in order of first mention, with the text of their ranges."""
        own: dict[int, list[Rule]] = {}
        for rule in self.rules:
            own.setdefault(rule.code, []).append(rule)
        return tuple(
            ClassEntry(
                code,
                rules[0].name,
                rules[0].color,
                ", ".join(r.text(closed=self.closed) for r in rules),
                tuple((r.low, r.high) for r in rules),
            )
            for code, rules in own.items()
        )

    def regions(self) -> Iterator[Region]:
        """Every stretch between bounds and every bound itself, ascending: 2 m + 1 of them for m bounds."""
        bounds = self.bounds
        below = -math.inf
        for b in bounds:
            yield Region(below, b)
            yield Region(b, b)
            below = b
        yield Region(below, math.inf)

    def holders(self, region: Region) -> list[Rule]:
        """Rules that hold a region, in order."""
        value = region.sample
        result = [r for r in self.compared if r.holds(value, self.closed)]
        if not result and region.low == region.high:
            result = self._end_holders(value)
        return result

    def lookup(self) -> np.ndarray:
        """Class code of each region (uint8, 255 for none), in the order of ``regions``."""
        held = [self.holders(region) for region in self.regions()]
        return np.array([h[0].code if h else NO_CLASS for h in held], np.uint8)

    def problems(self) -> list[str]:
        """Gaps and overlaps in words, in order of value."""
        regions = list(self.regions())
        held = [self.holders(r) for r in regions]
        return [*_gaps(regions, held, self.wraps), *_overlaps(regions, held)]

    @cached_property
    def compared(self) -> tuple[Rule, ...]:
        """The rules with their bounds in the precision of the values that they are compared with."""

        def stored(bound: float | None) -> float | None:
            return None if bound is None else self._stored(bound)

        return tuple(replace(r, low=stored(r.low), high=stored(r.high)) for r in self.rules)

    def _stored(self, bound: float) -> float:
        return bound if self.double else float(np.float32(bound))

    def _end_holders(self, value: float) -> list[Rule]:
        ranges = [r for r in self.compared if not r.is_point]
        if self.wraps or not ranges:
            return []
        if self.closed == "upper":
            lows = [-math.inf if r.low is None else r.low for r in ranges]
            return [r for r in ranges if r.low == value] if value == min(lows) else []
        highs = [math.inf if r.high is None else r.high for r in ranges]
        return [r for r in ranges if r.high == value] if value == max(highs) else []


def _gaps(regions: Sequence[Region], held: Sequence[list[Rule]], wraps: bool) -> list[str]:
    inside = range(1, len(regions) - 1)
    rows = [i for i in inside if not held[i]]
    if not wraps:  # what lies outside a lone value such as "flat" is no gap
        ranges = [i for i in inside if any(not r.is_point for r in held[i])]
        rows = [i for i in rows if ranges and ranges[0] < i < ranges[-1]]
    else:
        rows = [i for i in rows if regions[i].low >= 0 and regions[i].high <= 360]
    merged: list[Region] = []
    for i in rows:
        region = regions[i]
        if merged and merged[-1].high == region.low and region.high > region.low:
            merged[-1] = Region(merged[-1].low, region.high)
        elif not (merged and merged[-1].high == region.low and region.high == region.low):
            merged.append(region)
    return [f"No class holds values {r.text()}." for r in merged]


def _overlaps(regions: Sequence[Region], held: Sequence[list[Rule]]) -> list[str]:
    spans: dict[tuple[str, str], Region] = {}
    for region, rules in zip(regions, held, strict=True):
        if len(rules) > 1 and rules[0].code != rules[1].code:
            pair = (rules[0].name, rules[1].name)
            spans[pair] = Region(spans[pair].low if pair in spans else region.low, region.high)
    return [f"'{a}' and '{b}' both hold values {r.text()}; '{a}' takes them." for (a, b), r in spans.items()]


def exact_text(value: float | None) -> str:
    """Write a bound for a file: as few digits as give the same bound back, at the precision of the values."""
    if value is None:
        return ""
    texts = (f"{float(value):.{digits}g}" for digits in (7, 8, 9))
    return next((t for t in texts if np.float32(float(t)) == np.float32(value)), f"{float(value):.17g}")


def number_text(value: float | None) -> str:
    """Write a bound without needless digits."""
    return "" if value is None else f"{float(value):.7g}"
