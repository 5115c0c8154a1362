"""The level at which cut and fill balance, and both by level."""

from __future__ import annotations

import numpy as np

from moss_step.model.errors import MossError
from moss_step.science.earthwork.kernels.levels import STRIPS, gathered, span_inside, within_step
from moss_step.science.earthwork.outline import Outline

_STEPS = 8192
"""Steps of height: within the one that holds the level its cells are put in order."""


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
        self._values = np.ascontiguousarray(values[outline.part])
        self._shares = outline.own_shares()
        self._areas = np.ascontiguousarray(outline.window.row_areas, np.float64)
        spans = np.empty((len(self._values), 2))
        span_inside(self._values, self._shares, spans)
        self.low, self.high = float(spans[:, 0].min()), float(spans[:, 1].max())
        if self.low > self.high:
            raise MossError("No height lies in the outline.", "Draw it where there are heights.")
        self._step = max((self.high - self.low) / _STEPS, 1e-12)
        weight, moment = (np.zeros((STRIPS, _STEPS + 1)) for _ in range(2))
        gathered(self._values, self._shares, self._areas, self.low, self._step, weight, moment)
        self._weight, self._moment = weight.sum(axis=0), moment.sum(axis=0)

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
        heights, parts = np.empty(self._values.size), np.empty(self._values.size)  # touched as far as needed
        count = within_step(
            self._values, self._shares, self._areas, self.low, self._step, k, _STEPS, heights, parts
        )
        order = np.argsort(heights[:count])
        heights, parts = heights[:count][order], parts[:count][order]
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
