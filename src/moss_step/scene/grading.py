"""Shapes drawn by a column: graded colours with a choice of breaks, or a colour for each value."""

from __future__ import annotations

import itertools
import re
from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np

from moss_step.model.rules import Rule, RuleSet, number_text
from moss_step.model.shapes import Shapes
from moss_step.scene.colors import NAMED, NO_VALUE
from moss_step.scene.ramps import ramp
from moss_step.science.classes.breaks import natural_breaks
from moss_step.science.classes.histogram import Histogram
from moss_step.study.graph import KeyRow

METHODS = {
    "equal_interval": "Equal interval",
    "equal_count": "Equal count",
    "natural": "Natural breaks",
    "deviation": "Standard deviation",
    "typed": "Typed breaks",
    "unique": "Each value",
}
_MOST_VALUES = 24
_STRIDE = 7  # colours of many values repeat, far apart on the ramp
_GOLDEN = 0.6180339887


@lru_cache(maxsize=1)
def rehearse_breaks() -> None:
    """Load what natural breaks need: not for the window's thread, which grades shapes later."""
    natural_breaks(np.array([1.0, 2.0, 4.0]), 2)


@dataclass(frozen=True)
class Grading:
    """The class of each shape (-1 for none), and name and colour of each class."""

    places: np.ndarray
    classes: tuple[tuple[str, str], ...]
    bounds: tuple[float, ...] = ()
    """Bounds of the classes, one more than classes; none for a colour each value."""

    def color(self, k: int) -> str:
        """Colour of a shape."""
        return self.class_color(int(self.places[k]))

    def class_color(self, place: int) -> str:
        """Colour of a class; -1 is of none."""
        return self.classes[place][1] if place >= 0 else NO_VALUE


def grading_of(shapes: Shapes, row: KeyRow) -> Grading | None:
    """Grade shapes by the column that the Key's row names; None when it names none that is there."""
    if not row.column or row.column not in shapes.columns:
        return None
    result = _graded(
        shapes, row.column, row.method, row.count, row.breaks, row.ramp or "spectrum", row.reverse
    )
    return (
        result
        if row.ramp
        else replace(result, classes=tuple((name, NAMED.get(name, color)) for name, color in result.classes))
    )


@lru_cache(maxsize=64)
def _graded(
    shapes: Shapes,
    column: str,
    method: str,
    count: int,
    breaks: tuple[float, ...],
    ramp_name: str,
    reverse: bool,
) -> Grading:
    values = shapes.columns[column]
    if method == "unique" or values.dtype.kind not in "iuf":
        return _by_value(values, ramp_name, reverse, _first(shapes))
    numbers = values.astype(np.float64)
    known = numbers[np.isfinite(numbers)]
    if known.size == 0 or known.min() == known.max():
        return _by_value(values, ramp_name, reverse, _first(shapes))
    if method == "typed" and breaks:
        inner = np.array(breaks)
        bounds = np.unique([known.min(), *inner[(inner > known.min()) & (inner < known.max())], known.max()])
    else:
        bounds = np.unique(_bounds(known, method, count))
    places = np.clip(np.searchsorted(bounds, numbers, side="left") - 1, 0, len(bounds) - 2)
    places[~np.isfinite(numbers)] = -1
    colors = _spread(len(bounds) - 1, ramp_name, reverse, _first(shapes))
    names = [
        f"{number_text(float(f'{a:.5g}'))} – {number_text(float(f'{b:.5g}'))}"
        for a, b in itertools.pairwise(bounds)
    ]
    return Grading(places, tuple(zip(names, colors, strict=True)), tuple(float(b) for b in bounds))


def _bounds(known: np.ndarray, method: str, count: int) -> np.ndarray:
    low, high = known.min(), known.max()
    if method == "equal_count":
        return np.asarray(np.quantile(known, np.linspace(0, 1, count + 1)))
    if method == "deviation":
        mean, step = known.mean(), known.std() or 1.0
        inner = mean + step * (np.arange(count - 1) - (count - 2) / 2.0)
        return np.concatenate([[low], inner[(inner > low) & (inner < high)], [high]])
    if method == "natural":
        ordered = np.sort(known)
        uppers = natural_breaks(ordered, count)
        # The lowest value may be a class of its own: its lower bound then lies just below it.
        return np.concatenate([[low if uppers[0] > low else np.nextafter(low, -np.inf)], uppers])
    return np.linspace(low, high, count + 1)


def column_bins(shapes: Shapes, column: str, bins: int = 60) -> Histogram | None:
    """How often the values of a column occur; None for a column without different numbers."""
    values = shapes.columns[column]
    known = (
        values[np.isfinite(values.astype(np.float64))].astype(np.float64)
        if values.dtype.kind in "iuf"
        else np.empty(0)
    )
    if known.size == 0 or known.min() == known.max():
        return None
    counts, edges = np.histogram(known, bins)
    return Histogram(counts, float(edges[0]), float(edges[-1]))


def grading_rules(grading: Grading) -> RuleSet:
    """The classes of a grading as ranges."""
    ranges = zip(itertools.pairwise(grading.bounds), grading.classes, strict=True)
    return RuleSet(tuple(Rule(a, b, k + 1, name, color) for k, ((a, b), (name, color)) in enumerate(ranges)))


def _first(shapes: Shapes) -> int:
    """Where on a ramp the colours begin: lines and points need more contrast than areas."""
    return 20 if shapes.kind == "areas" else 90


def _in_order(text: str) -> list[tuple[int, str]]:
    """What puts texts in order: words by their letters and numbers within them by size, however many digits
    they have.
    """
    parts = re.split(r"([0-9]+)", text)
    return [(len(p.lstrip("0")), p.lstrip("0")) if k % 2 else (0, p) for k, p in enumerate(parts)]


def _by_value(values: np.ndarray, ramp_name: str, reverse: bool, first: int) -> Grading:
    distinct, places = np.unique(
        values if values.dtype.kind in "iuf" else values.astype(str), return_inverse=True
    )
    if distinct.dtype.kind not in "iuf":
        order = sorted(range(len(distinct)), key=lambda k: _in_order(str(distinct[k])))
        distinct, places = distinct[order], np.argsort(order)[places]
    colors = _spread(min(len(distinct), _MOST_VALUES), ramp_name, reverse, first)
    if distinct.dtype.kind not in "iuf":
        # Names have no order to show: neighbours in the list, and often on the ground, get colours far apart.
        colors = [colors[k] for k in np.argsort(np.argsort(np.arange(len(colors)) * _GOLDEN % 1.0))]
    repeated = [
        colors[(k * _STRIDE) % len(colors) if len(distinct) > _MOST_VALUES else k]
        for k in range(len(distinct))
    ]
    return Grading(places, tuple(zip([str(v) for v in distinct], repeated, strict=True)))


def _spread(count: int, ramp_name: str, reverse: bool, first: int) -> list[str]:
    colors = ramp(ramp_name, reverse)
    return ["#{:02X}{:02X}{:02X}".format(*colors[int(k)]) for k in np.linspace(first, 235, max(count, 1))]
