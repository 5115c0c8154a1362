"""The level at which cut and fill balance, of an outline or of a design, and both by level."""

from __future__ import annotations

from collections.abc import Callable, Iterator

import numpy as np

from moss_step.model.arrays import read_only
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.mapped import blocks_of, let_go
from moss_step.model.progress import Progress, silent
from moss_step.model.surface import Surface
from moss_step.science.earthwork.design import Design, ways_up
from moss_step.science.earthwork.kernels.levels import STRIPS, gathered, span_inside, within_step
from moss_step.science.earthwork.outline import Outline
from moss_step.science.earthwork.works import Built, built

_STEPS = 8192
"""Steps of height: within the one that holds the level its cells are put in order."""
_SETTLED, _LEAST_WIDE = 1e-6, 0.5
"""Metres to which the height of a design is found, and those above and below the ground at first."""


class ByLevel:
    """What is cut and filled at any level inside an outline.

    Parameters
    ----------
    values
        Heights of the whole grid (rows, cols); NaN is no-data.
    outline
        The outline over the grid.

    Raises
    ------
    MossError
        When no height lies inside.

    Examples
    --------
    >>> import numpy as np, shapely
    >>> from moss_step.model.frame import Frame
    >>> from moss_step.science.earthwork.balance import ByLevel
    >>> from moss_step.science.earthwork.outline import Outline
    >>> outline = Outline(Frame(1, 3, 0.0, 1.0, 1.0, 1.0, None), shapely.box(0, 0, 3, 1))
    >>> ByLevel(np.array([[1.0, 2.0, 6.0]]), outline).balanced()
    3.0
    """

    def __init__(self, values: np.ndarray, outline: Outline) -> None:
        self._values, self._shares = values[outline.part], outline.own_shares()
        self._areas = np.ascontiguousarray(outline.window.row_areas, np.float64)
        spans = np.empty((len(self._values), 2))
        for rows, heights, shares, _ in self._some():
            span_inside(heights, shares, spans[rows])
        self.low, self.high = float(spans[:, 0].min()), float(spans[:, 1].max())
        if self.low > self.high:
            raise MossError("No height lies in the outline.", "Draw it where there are heights.")
        self._step = max((self.high - self.low) / _STEPS, 1e-12)
        weight, moment = (np.zeros((STRIPS, _STEPS + 1)) for _ in range(2))
        for rows, heights, shares, areas in self._some():
            gathered(heights, shares, areas, rows.start, self.low, self._step, weight, moment)
        self._weight, self._moment = weight.sum(axis=0), moment.sum(axis=0)

    def _some(self) -> Iterator[tuple[slice, np.ndarray, np.ndarray, np.ndarray]]:
        """Heights, shares and areas of some rows at a time."""
        for rows in blocks_of(self._values):
            yield rows, read_only(self._values[rows]), self._shares[rows], self._areas[rows]
            let_go(self._values, self._shares)

    def balanced(self, factor: float = 1.0) -> float:
        """The level at which the cut, times a factor, is the fill, in the unit of the heights."""
        if self.high == self.low:
            return self.low
        under = np.concatenate([[0.0], np.cumsum(self._weight)])
        below = np.concatenate([[0.0], np.cumsum(self._moment)])
        edges = np.arange(len(under)) * self._step
        over, above = under[-1] - under, below[-1] - below
        # What is too much at each edge; it falls with the level, so that it changes its sign in one step.
        excess = factor * (above - edges * over) - (edges * under - below)
        k = int(np.searchsorted(-excess, 0.0)) - 1
        return self.low + self._within(max(k, 0), factor, under, below)

    def _within(self, k: int, factor: float, under: np.ndarray, below: np.ndarray) -> float:
        """The level within a step of height, whose cells are put in order, above the lowest height."""
        found = []
        for _, heights, shares, areas in self._some():
            held = np.empty((2, heights.size))  # touched as far as needed
            count = within_step(heights, shares, areas, self.low, self._step, k, _STEPS, held[0], held[1])
            found.append(held[:, :count].copy())
        heights, parts = np.concatenate(found, axis=1)
        order = np.argsort(heights, kind="stable")
        heights, parts = heights[order], parts[order]
        w = under[k] + np.concatenate([[0.0], np.cumsum(parts)])
        m = below[k] + np.concatenate([[0.0], np.cumsum(parts * heights)])
        over, above = under[-1] - w, below[-1] - m
        # Between two heights the sums are straight lines of the level: factor (above - L over) = L w - m.
        levels = (factor * above + m) / (factor * over + w)
        low = np.concatenate([[-np.inf], heights])
        high = np.concatenate([heights, [np.inf]])
        off = np.maximum(np.maximum(low - levels, levels - high), 0.0)
        return float(levels[int(np.argmin(off))])

    def curve(self, count: int = 200) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Levels (count), and cut and fill at each, in the unit of the heights times square metres."""
        under = np.concatenate([[0.0], np.cumsum(self._weight)])
        below = np.concatenate([[0.0], np.cumsum(self._moment)])
        at = np.linspace(0, len(under) - 1, count).astype(int)
        level = at * self._step
        cut = (below[-1] - below[at]) - level * (under[-1] - under[at])
        return self.low + level, cut, level * under[at] - below[at]


def balanced(
    surface: Surface, design: Design, factor: float = 1.0, progress: Progress | None = None
) -> tuple[Design, Built]:
    """Raise or lower a design until what is cut, times a factor, is what is filled.

    Parameters
    ----------
    surface
        Heights (rows, cols).
    design
        What is to be built, at any height.
    factor
        Volume of fill from a cubic metre of cut.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    tuple of Design and Built
        The design at the height that balances, to a thousandth of a millimetre; and what is built.

    Raises
    ------
    AskedWronglyError
        For what is only filled, such as a bund.
    MossError
        When there is no such height, or none is known where the design lies.

    Examples
    --------
    >>> import shapely
    >>> from moss_step.science.earthwork.balance import balanced
    >>> from moss_step.science.earthwork.design import Template, pad
    >>> from moss_step.science.sample import tilted
    >>> ground = tilted()
    >>> area = shapely.box(3.0, 3.0, 7.0, 6.0)
    >>> steep = Template(cut=(0.1, 0.1), fill=(0.1, 0.1))
    >>> design, made = balanced(ground, pad(ground.frame, area, 0.0, steep))
    >>> abs(made.moved.net) < 1e-3 * (made.moved.cut + made.moved.fill)
    True
    """
    if design.template.only_fill:
        raise AskedWronglyError("Nothing is cut for this: it cannot balance.", "Choose a level.")
    from scipy.optimize import brentq

    tried: dict[float, tuple[float, Built]] = {}

    def excess(by: float) -> float:
        (progress or silent()).at(1.0 - 0.8 ** len(tried), "Looking for the level that balances")
        made = built(surface, design.raised(by))
        tried[by] = factor * made.moved.cut - made.moved.fill, made
        return tried[by][0]

    low, high = _bracket(surface, design, excess)
    brentq(excess, low, high, xtol=_SETTLED, rtol=1e-12)
    best = min(tried, key=lambda by: abs(tried[by][0]))
    return design.raised(best), tried[best][1]


def _bracket(surface: Surface, design: Design, excess: Callable[[float], float]) -> tuple[float, float]:
    """Two ways up between which a design balances, looked for from the ground along its lines."""
    metres = surface.metres_per_height
    ways = ways_up(surface, design)
    if not ways.size:
        raise MossError("No height is known where the design lies.", "Draw it where there are heights.")
    middle, wide = float(ways.mean()), max(float(np.ptp(ways)) / 4.0, _LEAST_WIDE)
    relief = (surface.summary.high - surface.summary.low) * metres
    while wide <= 2.0 * relief + 2.0 * _LEAST_WIDE:
        if excess(middle - wide) > 0.0 > excess(middle + wide):
            return middle - wide, middle + wide
        wide *= 2.0
    raise MossError(
        "No level balances: one of cut and fill stays larger.",
        "Draw it on ground that rises and falls, or choose a level.",
    )
