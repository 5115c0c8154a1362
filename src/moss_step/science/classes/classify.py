"""Putting the cells of a surface in classes, and counting cells and ground area per class."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from moss_step.model.class_map import ClassEntry, ClassMap
from moss_step.model.frame import Frame
from moss_step.model.mapped import blocks_of, grid_beside, let_go
from moss_step.model.progress import Progress, silent
from moss_step.model.rules import RuleSet
from moss_step.model.surface import Surface
from moss_step.science.classes.kernels.classify import classify_rows, count_rows

BLOCK_ROWS = 512
_AT_ONCE = 100_000_000
"""Cells that are counted at a time."""


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

    Parameters
    ----------
    surface
        Values of shape (rows, cols); NaN is no-data.
    rules
        Ranges with codes, names and colours.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    ClassMap
        Codes, uint8; 255 where no range holds the value.

    Examples
    --------
    >>> from moss_step.model.rules import Rule, RuleSet
    >>> from moss_step.science.classes.classify import classify
    >>> from moss_step.science.sample import tilted
    >>> rules = RuleSet((Rule(0.0, 4.0, 1, "low", "#CAD39B"), Rule(4.0, 8.0, 2, "high", "#CF7340")))
    >>> classify(tilted(), rules).codes[0].tolist()
    [1, 1, 1, 2, 2]
    """
    progress = progress or silent()
    rules = replace(rules, double=surface.values.dtype == np.float64)
    bounds, lookup = np.array(rules.bounds, surface.values.dtype), rules.lookup()
    out = grid_beside(surface.values, np.uint8)
    for first, last in progress.blocks(surface.frame.rows, BLOCK_ROWS, "Putting cells in classes"):
        classify_rows(surface.values, bounds, lookup, first, last, out)
        let_go(out, surface.values)
    entries = tuple(replace(e, unit=surface.unit.key) for e in rules.entries)
    return ClassMap(out, surface.frame, entries)


def count_codes(codes: np.ndarray, frame: Frame) -> tuple[np.ndarray, np.ndarray]:
    """Cells (int64) and ground area in square metres (float64) of each of the 256 codes.

    Parameters
    ----------
    codes
        Integer codes of shape (rows, cols).
    frame
        Rows, columns, cell size and reference system of the grid.

    Returns
    -------
    tuple[np.ndarray, np.ndarray]
        Cells and square metres, 256 values each.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.classes.classify import count_codes
    >>> from moss_step.science.sample import ground
    >>> codes = np.array([[0, 1], [1, 255]], np.uint8)
    >>> cells, areas = count_codes(codes, ground([[1, 2], [3, 4]]).frame)
    >>> cells[:3].tolist(), areas[:3].tolist()
    ([1, 2, 0], [4.0, 8.0, 0.0])
    """
    cells, metres = np.zeros(256, np.int64), np.zeros(256)
    for rows in blocks_of(codes, _AT_ONCE):
        blocks = min(16, rows.stop - rows.start)
        counts, areas = np.zeros((blocks, 256), np.int64), np.zeros((blocks, 256))
        count_rows(codes[rows], frame.row_areas[rows], counts, areas, blocks)
        cells += counts.sum(axis=0)
        metres += areas.sum(axis=0)
        let_go(codes)
    return cells, metres


def class_totals(classes: ClassMap, valid_cells: int) -> ClassTotals:
    """Cells, area and share per class of a map made from ``valid_cells`` cells with a value.

    Parameters
    ----------
    classes
        Codes of shape (rows, cols), uint8; 255 is no class.
    valid_cells
        Cells with a value, which shares are of.

    Returns
    -------
    ClassTotals
        A row for each class, and what is in none.

    Examples
    --------
    >>> from moss_step.science.algebra.criteria import threshold
    >>> from moss_step.science.classes.classify import class_totals
    >>> from moss_step.science.sample import tilted
    >>> high = threshold(tilted(), 4.0, True, None, False, "high")
    >>> [(c.entry.name, c.cells, c.area) for c in class_totals(high, 20).classes]
    [('not high', 8, 32.0), ('high', 12, 48.0)]
    """
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
