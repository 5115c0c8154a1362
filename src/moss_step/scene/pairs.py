"""Two surfaces of heights that a result compares: the ground as it was or is, and as it became or will be."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Protocol

import numpy as np

from moss_step.model.frame import Box, same_frame
from moss_step.model.outcome import Outcome
from moss_step.model.surface import Surface
from moss_step.scene.layers import Looked, front_of
from moss_step.science.relief.profile import values_at
from moss_step.study.graph import step_of

_ACROSS = 300
"""Places across the sheet of the ground as it was."""
_APART = 1e-3
"""Metres from which on two heights are apart."""


class Ran(Looked, Protocol):
    """A study whose results can be asked for."""

    def outcome(self, ref: str) -> Outcome | None:
        """A result, when it is in memory."""


@dataclass(frozen=True, eq=False)
class Pair:
    """The ground before and after, by name, and how far they are apart (NaN where they are not)."""

    before: Surface
    after: Surface
    names: tuple[str, str]
    off: Surface

    @cached_property
    def box(self) -> Box:
        """The box in which both are apart; that of the whole where they are nowhere."""
        known, frame = np.isfinite(self.off.values), self.off.frame
        rows, cols = np.flatnonzero(known.any(axis=1)), np.flatnonzero(known.any(axis=0))
        if not rows.size:
            return frame.box
        return frame.part(slice(rows[0], rows[-1] + 1), slice(cols[0], cols[-1] + 1)).box


@dataclass(frozen=True, eq=False)
class Sheet:
    """Heights of the ground as it was in metres (rows, cols; NaN where it is as it became) over a box, and
    how far it lies above the ground as it became, in metres.
    """

    heights: np.ndarray
    above: np.ndarray
    box: Box


def pair_of(work: Ran) -> Pair | None:
    """The two surfaces that the result in front compares; None where it compares none, or they are not there
    yet.
    """
    ref = front_of(work)
    study = work.study_with_draft
    if not ref or not study.has(ref):
        return None
    step = study.step(step_of(ref))
    if not step.declared.between[0]:
        return None
    refs = [f"{step.id}{n}" if n.startswith(".") else step.inputs.get(n, "") for n in step.declared.between]
    held = [work.outcome(r) if r and study.has(r) else None for r in refs]
    surfaces = [None if o is None else o.of(Surface) for o in held]
    depth = work.outcome(step.id)
    off = None if depth is None else depth.of(Surface)
    if surfaces[0] is None or surfaces[1] is None or off is None:
        return None
    names = [study.result(r).title if r.startswith(f"{step.id}.") else study.name_of(r) for r in refs]
    return Pair(surfaces[0], surfaces[1], (names[0], names[1]), off)


def sheet_of(pair: Pair) -> Sheet:
    """The ground as it was, where it is not as it became."""
    xmin, ymin, xmax, ymax = pair.box
    frame = pair.after.frame
    cols = int(min(max((xmax - xmin) / frame.dx, 2), _ACROSS))
    rows = int(min(max((ymax - ymin) / frame.dy, 2), _ACROSS))
    x = xmin + (np.arange(cols) + 0.5) * (xmax - xmin) / cols
    y = ymax - (np.arange(rows) + 0.5) * (ymax - ymin) / rows
    u, v = (a.ravel() for a in np.meshgrid(x, y))
    before, after = (
        values_at(s, u, v).astype(np.float64).reshape(rows, cols) * s.metres_per_height
        for s in (pair.before, pair.after)
    )
    above = before - after
    with np.errstate(invalid="ignore"):
        apart = np.abs(above) > _APART
    return Sheet(np.where(apart, before, np.nan), above, pair.box)


def with_after(
    heights: np.ndarray, standing: Surface, pair: Pair, first: tuple[int, int] = (0, 0), size: int = 0
) -> np.ndarray:
    """Heights of the standing ground (rows, cols; every ``size`` cells of it from the ``first`` on, in its
    unit) as they became.

    Where the standing ground is neither of the two, or they lie in other cells, it stays as it is.
    """
    if standing is not pair.before or not same_frame(pair.before.frame, pair.after.frame):
        return heights
    size = size or max(1, round(standing.frame.rows / heights.shape[0]))
    rows, cols = (
        np.minimum(start + np.arange(count) * size + size // 2, most - 1)
        for start, count, most in zip(first, heights.shape, standing.frame.shape, strict=True)
    )
    cells = np.ix_(rows, cols)
    change = (pair.after.values[cells] - pair.before.values[cells]).astype(heights.dtype)
    return np.asarray(heights + np.nan_to_num(change))
