"""Figures and findings that many steps give of their results."""

from __future__ import annotations

import math

import numpy as np

from moss_step.model.class_map import ClassMap
from moss_step.model.errors import MossError
from moss_step.model.findings import Finding
from moss_step.model.outcome import Outcome
from moss_step.model.surface import Surface
from moss_step.model.telling import mark
from moss_step.model.units import CELLS, SHARE, SQUARE_METRE
from moss_step.science.algebra.bearings import mean_bearing
from moss_step.science.classes.classify import ClassTotals, class_totals


def surface_outcome(surface: Surface, warnings: tuple[str, ...] = ()) -> Outcome:
    """Outcome of a step that gives a surface: its range as figure; lowest, highest, mean and cells as
    findings.
    """
    if surface.range is None:
        return Outcome(
            surface, "no values", (Finding("cells", 0, CELLS),), (*warnings, "Every cell is no-data.")
        )
    low, high = surface.range
    if not (math.isfinite(low) and math.isfinite(high)):
        raise MossError(
            "Some results are too large to be held.",
            "Check the unit of the heights, and which value stands for no-data.",
        )
    if surface.cyclic:  # a lowest bearing means nothing, and the mean goes around the circle
        mean = mean_bearing(surface.values)
        pointing = () if math.isnan(mean) else (Finding("mean", mean, surface.unit),)
        return Outcome(
            surface, "bearings", (*pointing, Finding("cells", surface.valid_count, CELLS)), warnings
        )
    findings = (
        Finding("lowest", low, surface.unit),
        Finding("highest", high, surface.unit),
        Finding("mean", surface.summary.mean, surface.unit),
        Finding("cells", surface.valid_count, CELLS),
    )
    return Outcome(surface, mark(low, surface.unit, high), findings, warnings)


def class_outcome(classes: ClassMap, valid_cells: int, warnings: tuple[str, ...] = ()) -> Outcome:
    """Outcome of a step that gives a class map: count, area and share of each class as findings."""
    totals = class_totals(classes, valid_cells)
    remarks = list(warnings)
    remarks += [f"Class '{name}' is empty." for name in totals.empty]
    remarks += unclassified_told(totals.outside_cells, valid_cells)
    n = len(classes.classes)
    return Outcome(classes, f"{n} class{'es' if n != 1 else ''}", class_findings(totals), tuple(remarks))


IN_NO_CLASS = "are in no class."


def unclassified_told(outside: int, cells: int) -> list[str]:
    """Say how many of some cells are in no class."""
    return [f"{outside:,} cells ({outside / cells:.1%}) {IN_NO_CLASS}"] if outside else []


def class_findings(totals: ClassTotals) -> tuple[Finding, ...]:
    """Count, area and share of each class, and the count of cells in none."""
    result = []
    for row in totals.classes:
        result += [
            Finding("count", row.cells, CELLS, row.entry.name),
            Finding("area_m2", row.area, SQUARE_METRE, row.entry.name),
            Finding("share", row.share, SHARE, row.entry.name),
        ]
    return (*result, Finding("unclassified_count", totals.outside_cells, CELLS))


def unweighted(weights: Surface, dem: Surface) -> list[str]:
    """Say how many cells of the ground have no weight."""
    return unweighted_told(without_weight(weights, dem))


def without_weight(weights: Surface, dem: Surface) -> int:
    """How many cells of the ground have no weight."""
    return int(np.count_nonzero(np.isnan(weights.values) & ~np.isnan(dem.values)))


def unweighted_told(missing: int) -> list[str]:
    """The same by their number."""
    return [f"{missing:,} cells of the ground have no weight, and count as 0."] if missing else []
