"""Putting the cells of a surface in classes, and counting cells and ground area per class."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from moss_step.model.class_map import ClassEntry, ClassMap
from moss_step.model.frame import Frame
from moss_step.model.progress import Progress, silent
from moss_step.model.rules import RuleSet
from moss_step.model.surface import Surface
from moss_step.science.classes.kernels.classify import classify_rows, count_rows

BLOCK_ROWS = 512


@dataclass(frozen=True)
class ClassCount:
    """Cells and ground area of one class; ``share`` is of all cells that have a value, 0 to 1."""

    entry: ClassEntry
    cells: int
    area: float
    share: float


@dataclass(frozen=True)
class ClassTotals:
    """Counts of all classes in order, and of the valid cells that no class holds."""

    classes: tuple[ClassCount, ...]
    outside_cells: int

    @property
    def empty(self) -> list[str]:
        """Names of the classes that hold no cell."""
        return [c.entry.name for c in self.classes if c.cells == 0]


def classify(surface: Surface, rules: RuleSet, progress: Progress | None = None) -> ClassMap:
    """Give each valid cell the class whose range holds it; cells that no range holds get no class.

    Bounds are compared in the precision of the values, so that a typed 0.1 equals a stored 0.1.
    """
    progress = progress or silent()
    rules = replace(rules, double=surface.values.dtype == np.float64)
    bounds, lookup = np.array(rules.bounds, surface.values.dtype), rules.lookup()
    out = np.empty(surface.frame.shape, np.uint8)
    for first, last in progress.blocks(surface.frame.rows, BLOCK_ROWS, "Putting cells in classes"):
        classify_rows(surface.values, bounds, lookup, first, last, out)
    return ClassMap(out, surface.frame, rules.entries)


def count_codes(codes: np.ndarray, frame: Frame) -> tuple[np.ndarray, np.ndarray]:
    """Cells (int64) and ground area in square metres (float64) of each of the 256 codes."""
    blocks = min(16, frame.rows)
    counts, areas = np.zeros((blocks, 256), np.int64), np.zeros((blocks, 256))
    count_rows(codes, frame.row_areas, counts, areas, blocks)
    return counts.sum(axis=0), areas.sum(axis=0)


def class_totals(classes: ClassMap, valid_cells: int) -> ClassTotals:
    """Cells, area and share per class of a map made from ``valid_cells`` cells with a value."""
    counts, areas = count_codes(classes.codes, classes.frame)
    rows = tuple(
        ClassCount(
            e,
            int(counts[e.code]),
            float(areas[e.code]),
            float(counts[e.code]) / valid_cells if valid_cells else 0.0,
        )
        for e in classes.classes
    )
    return ClassTotals(rows, valid_cells - sum(r.cells for r in rows))
