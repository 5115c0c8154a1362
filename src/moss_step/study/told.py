"""What a whole ground says of itself, from what its tiles said: counts add up, the lowest is the lowest of
all, shares count by their cells.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from moss_step.kinds.registry import cells_of, kind_of
from moss_step.model.class_map import ClassMap
from moss_step.model.errors import MossError
from moss_step.model.findings import Finding
from moss_step.model.outcome import Outcome, Value
from moss_step.model.summary import Summary, together
from moss_step.model.surface import Surface
from moss_step.model.typed import of_kind
from moss_step.model.units import BEARING, CELLS, COUNT, CUBIC_METRE, SHARE, SQUARE_METRE
from moss_step.steps.declare import Inputs, StepKind, every
from moss_step.steps.results import IN_NO_CLASS, class_outcome, surface_outcome, unclassified_told

_ADDED = (CELLS, COUNT, SQUARE_METRE, CUBIC_METRE)


@dataclass(frozen=True)
class Said:
    """What one tile says: its findings and warnings, the cells that shares are of, a summary of its values,
    and for bearings the sums of their east and north parts.
    """

    findings: tuple[Finding, ...]
    warnings: tuple[str, ...]
    cells: int
    summary: Summary
    east: float = 0.0
    north: float = 0.0


Span = tuple[slice, slice]
"""Rows and columns of a part."""


def retold(
    step: StepKind, settings: Any, outcome: Outcome, part: Value, inputs: Inputs, within: Span
) -> Outcome:
    """What a step says of a part of what it gave, which lies ``within`` some of its rows and columns;
    ``inputs`` are cut to that part, too.
    """
    told = _retold(step, settings, outcome, part, inputs)
    counted = [
        Finding(f.name, _count_within(outcome, f.name, within), f.unit, f.of)
        for f in outcome.findings
        if f.name in outcome.lying
    ]
    stated = [f for f in outcome.findings if f.name in outcome.stated]
    return replace(told, findings=(*told.findings, *counted, *stated))


def _count_within(outcome: Outcome, name: str, within: Span) -> int:
    row, col = np.divmod(outcome.lying[name], cells_of(outcome.value).shape[1])
    rows, cols = within
    inside = (rows.start <= row) & (row < rows.stop) & (cols.start <= col) & (col < cols.stop)
    return int(np.count_nonzero(inside))


def _retold(step: StepKind, settings: Any, outcome: Outcome, part: Value, inputs: Inputs) -> Outcome:
    surface, classes = of_kind(part, Surface), of_kind(part, ClassMap)
    if step.tells is not None:
        return replace(step.tells(settings, part), warnings=outcome.warnings)
    if surface is not None:
        return surface_outcome(surface, outcome.warnings)
    if classes is None:
        raise MossError(f"`{step.kind}` gives no grid.", "Run it on a ground that fits in memory.")
    outside = next((f.value for f in outcome.findings if f.name == "unclassified_count"), 0)
    fed = next((s for s in every(inputs, Surface).values()), None) if outside else None
    cells = classes.valid_count if fed is None else fed.valid_count
    plain = tuple(w for w in outcome.warnings if not w.endswith((" is empty.", IN_NO_CLASS)))
    return class_outcome(classes, cells, plain)


def said_by(told: Outcome) -> Said:
    """What a tile says, without its margin."""
    values, surface = cells_of(told.value), told.of(Surface)
    known = int(np.count_nonzero(~_blank(told, values))) if surface is None else surface.valid_count
    counted = [f.value for f in told.findings if f.name in ("count", "unclassified_count")]
    cells = int(sum(counted)) if counted else known
    if surface is None:
        return Said(told.findings, told.warnings, cells, Summary(known, math.nan, math.nan, math.nan))
    summary, turned = surface.summary, np.empty(0)
    if surface.cyclic:
        turned = np.radians(values[values >= 0.0].astype(np.float64))
    return Said(
        told.findings, told.warnings, cells, summary, float(np.sin(turned).sum()), float(np.cos(turned).sum())
    )


def _blank(outcome: Outcome, values: np.ndarray) -> np.ndarray:
    blank = kind_of(outcome.value).blank
    result: np.ndarray = np.isnan(values) if math.isnan(blank) else values == blank
    return result


def merged(tiles: Sequence[Said]) -> tuple[tuple[Finding, ...], tuple[str, ...], Summary]:
    """Findings, warnings and summary of the whole."""
    some = [t for t in tiles if t.cells or t.summary.count] or list(tiles)
    keys = dict.fromkeys((f.name, f.of) for t in some for f in t.findings)
    findings, lost = list[Finding](), list[str]()
    for name, of in keys:
        parts = [(f, t) for t in some for f in t.findings if (f.name, f.of) == (name, of)]
        value = _together(name, parts)
        if value is None:
            lost.append(name)
        else:
            findings.append(Finding(name, value, parts[0][0].unit, of))
    plain = [tuple(w for w in t.warnings if not w.endswith(IN_NO_CLASS)) for t in some]
    warnings = (*_alike(plain), *_outside(findings, sum(t.cells for t in some)))
    remark = (f"Not told of a ground in tiles: {', '.join(dict.fromkeys(lost))}.",) if lost else ()
    return tuple(findings), (*warnings, *remark), together([t.summary for t in tiles])


def _outside(findings: Iterable[Finding], cells: int) -> list[str]:
    """Say again how many of all cells are in no class."""
    outside = sum(int(f.value) for f in findings if f.name == "unclassified_count")
    return unclassified_told(outside, cells)


def _together(name: str, parts: Sequence[tuple[Finding, Said]]) -> float | None:
    """One number from those of the tiles; None where there is no way to it."""
    values, unit = [f.value for f, _ in parts], parts[0][0].unit
    if name == "mean" and unit == BEARING:
        east, north = sum(t.east for _, t in parts), sum(t.north for _, t in parts)
        return math.degrees(math.atan2(east, north)) % 360.0
    if name == "lowest":
        return min(values)
    if name == "highest":
        return max(values)
    if unit in _ADDED and name != "mean":
        total = sum(values)
        return int(total) if unit in (CELLS, COUNT) else total
    if name == "mean" or unit == SHARE:
        weights = [t.summary.count if name == "mean" else t.cells for _, t in parts]
        whole = sum(weights)
        return sum(v * w for v, w in zip(values, weights, strict=True)) / whole if whole else None
    return values[0] if len(set(values)) == 1 else None


def _alike(warnings: Iterable[tuple[str, ...]]) -> tuple[str, ...]:
    """Warnings that each tile gave: what only some say is of them alone."""
    all_of = list(warnings)
    return tuple(w for w in dict.fromkeys(w for some in all_of for w in some) if all(w in s for s in all_of))
