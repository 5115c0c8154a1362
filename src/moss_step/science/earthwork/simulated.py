"""Volumes of surveys whose errors are drawn by chance: how far they would be off."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from moss_step.model.frame import Frame
from moss_step.model.progress import Progress, silent
from moss_step.science.earthwork.change import Counted
from moss_step.science.earthwork.kernels.changes import simulated_sums

_ENOUGH = 1.0
"""Ranges that a field is made larger by, so that its ends do not feel each other."""


@dataclass(frozen=True, eq=False)
class Simulated:
    """Cubic metres lowered and raised in each survey (n)."""

    lowered: np.ndarray
    raised: np.ndarray

    def within(self, probability: float) -> tuple[float, float, float]:
        """Half of the width that holds a share of the volumes lowered, raised, and of the net change."""
        ends = 0.5 - probability / 2.0, 0.5 + probability / 2.0
        spans = (
            np.ptp(np.quantile(v, ends)) for v in (self.lowered, self.raised, self.raised - self.lowered)
        )
        lowered, raised, net = (float(v) / 2.0 for v in spans)
        return lowered, raised, net


class Field:
    """Errors of a spread of 1 that are alike within a range, over a grid.

    Parameters
    ----------
    frame
        Where the cells lie.
    reach
        Range of a spherical variogram in metres; 0 for errors of their own in each cell.
    seed
        What the errors are drawn from.

    Source
    ------
    Circulant embedding: Dietrich and Newsam 1997, Fast and exact simulation of stationary Gaussian processes
    through circulant embedding of the covariance matrix. What little of the spectrum lies below 0 is left
    out, and the spread brought to 1.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.model.frame import Frame
    >>> from moss_step.science.earthwork.simulated import Field
    >>> one, other = Field(Frame(64, 64, 0.0, 64.0, 1.0, 1.0, None), 5.0, 1).pair()
    >>> one.shape, bool(0.5 < float(one.std()) < 1.5)
    ((64, 64), True)
    """

    def __init__(self, frame: Frame, reach: float, seed: int) -> None:
        self.shape, self._rng = frame.shape, np.random.default_rng(seed)
        self._root: np.ndarray | None = None
        wide, high = frame.cell_metres
        if reach <= min(wide, high):
            return
        from scipy import fft  # loaded where it is used: it takes a while

        rows = fft.next_fast_len(frame.rows + int(np.ceil(_ENOUGH * reach / high)))
        cols = fft.next_fast_len(frame.cols + int(np.ceil(_ENOUGH * reach / wide)))
        y = np.minimum(np.arange(rows), rows - np.arange(rows))[:, None] * high
        x = np.minimum(np.arange(cols), cols - np.arange(cols)) * wide
        h = np.minimum(np.hypot(x, y) / reach, 1.0)
        spectrum = np.maximum(fft.fft2(1.0 - 1.5 * h + 0.5 * h**3, workers=-1).real, 0.0)
        self._root = np.sqrt(spectrum / spectrum.mean() * spectrum.size).astype(np.float32)

    def pair(self) -> tuple[np.ndarray, np.ndarray]:
        """Two fields (rows, cols; float32) that have nothing to do with each other."""
        rows, cols = self.shape
        if self._root is None:
            both = self._rng.standard_normal((2, rows, cols), np.float32)
            return both[0], both[1]
        from scipy import fft

        noise = self._rng.standard_normal((*self._root.shape, 2), np.float32).view(np.complex64)[..., 0]
        made = fft.ifft2(noise * self._root, workers=-1, overwrite_x=True)[:rows, :cols]
        return np.ascontiguousarray(made.real), np.ascontiguousarray(made.imag)


def simulate(
    off: np.ndarray, frame: Frame, counted: Counted, field: Field, surveys: int,
    progress: Progress | None = None,
) -> Simulated:  # fmt: skip
    """Volumes of surveys of the same change, each with errors of its own.

    Parameters
    ----------
    off
        Changes in metres (rows, cols), NaN unknown.
    frame
        Where the cells lie.
    counted
        Which changes count, and their spread.
    field
        Errors over the same cells.
    surveys
        How many.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    Simulated
        Volumes of each survey.

    Raises
    ------
    ValueError
        For a field of other cells.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.model.frame import Frame
    >>> from moss_step.science.earthwork.change import Counted
    >>> from moss_step.science.earthwork.simulated import Field, simulate
    >>> frame = Frame(20, 20, 0.0, 20.0, 1.0, 1.0, None)
    >>> counted = Counted(np.array([[0.1]]), 0.0, everything=True)
    >>> found = simulate(np.full((20, 20), 2.0), frame, counted, Field(frame, 0.0, 1), 200)
    >>> bool(3.0 < found.within(0.95)[2] < 5.0)  # 1.96 times 0.1 m times the root of 400
    True
    """
    if field.shape != off.shape:
        raise ValueError("errors and changes are of other cells")
    progress, (shares, spread) = progress or silent(), counted.ready()
    areas, held = np.ascontiguousarray(frame.row_areas, np.float64), np.ascontiguousarray(off)
    sums, found = np.empty((off.shape[0], 2)), np.empty((surveys, 2))
    for k in range(0, surveys, 2):
        progress.at(k / surveys, f"Drawing survey {k + 1:,} of {surveys:,}")
        for place, noise in enumerate(field.pair()):
            if k + place < surveys:
                simulated_sums(held, noise, shares, areas, spread, counted.factor, counted.everything, sums)
                found[k + place] = sums.sum(axis=0)
    return Simulated(found[:, 0], found[:, 1])
