"""Which class became which, from one class map to another."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from moss_step.model.class_map import NO_CLASS, ClassEntry, ClassMap
from moss_step.model.errors import MossError
from moss_step.model.frame import check_same_frame
from moss_step.model.mapped import grid_beside, let_go
from moss_step.model.progress import Progress, silent
from moss_step.science.classes.presets import colors_between

MOST_CHANGES = 250
"""Pairs of classes that a map of changes tells apart."""
SAME = "#E9E8D8"
_ROWS = 256


@dataclass(frozen=True, eq=False)
class Change:
    """Pairs of classes that occur, those that changed first, by area: names before and after, cells, square
    metres; and the map, whose code k is pair k.
    """

    before: tuple[str, ...]
    after: tuple[str, ...]
    cells: np.ndarray
    areas: np.ndarray
    map: ClassMap

    @property
    def changed(self) -> np.ndarray:
        """Which pairs are of two different classes (boolean)."""
        return np.array([b != a for b, a in zip(self.before, self.after, strict=True)], bool)


def class_change(before: ClassMap, after: ClassMap, progress: Progress | None = None) -> Change:
    """Pair the classes of two maps cell by cell; a cell without a class in either has none.

    Classes are told by their names: codes may differ between the maps.

    Parameters
    ----------
    before
        Codes of shape (rows, cols), uint8; 255 is no class.
    after
        The same, cell on cell.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    Change
        Pairs with cells and square metres, and a map of them, uint8 of shape (rows, cols).

    Raises
    ------
    MossError
        For maps that do not lie cell on cell, no cell with a class in both, or too many pairs.

    Examples
    --------
    >>> from moss_step.science.algebra.criteria import threshold
    >>> from moss_step.science.classes.change import class_change
    >>> from moss_step.science.sample import tilted
    >>> low = threshold(tilted(), 2.0, True, None, False, "high")
    >>> high = threshold(tilted(), 6.0, True, None, False, "high")
    >>> change = class_change(low, high)
    >>> change.before[0], change.after[0], int(change.cells[0])
    ('high', 'not high', 8)
    """
    do = "Make both from surfaces in one frame; Resample carries a surface onto another's."
    check_same_frame(before.frame, after.frame, "The two class maps", do)
    progress, frame = progress or silent(), before.frame
    names_a, place_a = _places(before)
    names_b, place_b = _places(after)
    width = len(names_b) + 1
    cells, areas = np.zeros((len(names_a) + 1) * width, np.int64), np.zeros((len(names_a) + 1) * width)
    for first, last in progress.part(0.0, 0.6).blocks(frame.rows, _ROWS, "Pairing classes"):
        pairs = place_a[before.codes[first:last]] * width + place_b[after.codes[first:last]]
        let_go(before.codes, after.codes)
        for row, metres in zip(pairs, frame.row_areas[first:last], strict=True):
            counted = np.bincount(row, minlength=cells.size)
            cells += counted
            areas += counted * metres
    found = [p for p in np.flatnonzero(cells).tolist() if p // width and p % width]
    if not found:
        raise MossError("No cell has a class in both maps.", "Choose maps that cover the same ground.")
    if len(found) > MOST_CHANGES:
        raise MossError(
            f"The maps pair {len(found):,} times.",
            f"Use maps with fewer classes: up to {MOST_CHANGES} pairs.",
        )
    name = {p: (names_a[p // width - 1], names_b[p % width - 1]) for p in found}
    found.sort(key=lambda p: (name[p][0] == name[p][1], -areas[p], p))
    code = np.full(cells.size, NO_CLASS, np.uint8)
    code[found] = np.arange(len(found))
    codes = grid_beside(before.codes, np.uint8)
    for first, last in progress.part(0.6, 1.0).blocks(frame.rows, _ROWS, "Mapping changes"):
        codes[first:last] = code[place_a[before.codes[first:last]] * width + place_b[after.codes[first:last]]]
        let_go(codes, before.codes, after.codes)
    return Change(
        tuple(name[p][0] for p in found),
        tuple(name[p][1] for p in found),
        cells[found],
        areas[found],
        ClassMap(codes, frame, _entries([name[p] for p in found])),
    )


def _places(classes: ClassMap) -> tuple[list[str], np.ndarray]:
    """Names of the classes, each once, and the place of each code among them from 1; 0 for none."""
    names = list(dict.fromkeys(c.name for c in classes.classes if c.code != NO_CLASS))
    place = np.zeros(256, np.int64)
    for entry in classes.classes:
        if entry.code != NO_CLASS:
            place[entry.code] = names.index(entry.name) + 1
    return names, place


def _entries(pairs: list[tuple[str, str]]) -> tuple[ClassEntry, ...]:
    changed = sum(b != a for b, a in pairs)
    colors = colors_between(max(changed + 1, 2))[::-1]
    return tuple(
        ClassEntry(k, f"stays {b}", SAME) if b == a else ClassEntry(k, f"{b} to {a}", colors[k])
        for k, (b, a) in enumerate(pairs)
    )
