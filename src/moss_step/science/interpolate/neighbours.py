"""Values between samples from their neighbours: natural ones, by distance, and the nearest alone."""

from __future__ import annotations

import numpy as np

from moss_step.science.interpolate.kernels.natural import circles, natural, twins_of
from moss_step.science.interpolate.triangles import delaunay

_BANDS = 4
_CLOCKWISE = -1.0


class NaturalNeighbours:
    """The cells of samples, and how much of them a new place would take (Sibson 1981).

    Parameters
    ----------
    x
        Metres to the east (n).
    y
        Metres to the north (n).
    values
        What was measured (n).

    Raises
    ------
    MossError
        For fewer than three samples, or samples on one line.

    Source
    ------
    Sibson 1981, A brief description of natural neighbour interpolation.
    """

    def __init__(self, x: np.ndarray, y: np.ndarray, values: np.ndarray) -> None:
        self.x, self.y, self.values = (np.ascontiguousarray(v, np.float64) for v in (x, y, values))
        self.triangles = delaunay(self.x, self.y)
        self.twins = np.empty(self.triangles.size, np.int64)
        twins_of(self.triangles, len(self.x), self.twins)
        self.circles = np.empty((len(self.triangles), 3))
        circles(self.x, self.y, self.triangles, self.circles)

    def at(self, x: np.ndarray, y: np.ndarray, flat: bool = False) -> np.ndarray:
        """Values at places (n), NaN outside the hull of the samples; ``flat`` for those on the triangles."""
        out = np.empty(len(x))
        mesh = (self.x, self.y, self.values, self.triangles, self.twins, self.circles)
        u, v = (np.ascontiguousarray(a, np.float64) for a in (x, y))
        natural(u, v, mesh, _CLOCKWISE, flat, _BANDS, out)
        return out


class NearSamples:
    """The samples nearest to a place, each with a weight by its distance.

    Parameters
    ----------
    x
        Metres to the east (n).
    y
        Metres to the north (n).
    values
        What was measured (n).
    count
        Samples that count; 1 for the nearest alone.
    power
        A sample counts one over its distance to this power (Shepard 1968).
    reach
        Metres within which samples count; 0 for any. Where none does, there is no value.
    """

    def __init__(
        self, x: np.ndarray, y: np.ndarray, values: np.ndarray, count: int = 12, power: float = 2.0,
        reach: float = 0.0,
    ) -> None:  # fmt: skip
        from scipy.spatial import cKDTree

        self.tree = cKDTree(np.column_stack([x, y]))
        # Past the last sample stands that for none, as the tree gives it.
        self.values = np.append(np.asarray(values, np.float64), np.nan)
        self.count, self.power, self.reach = min(count, len(x)), power, reach if reach > 0 else np.inf

    def at(self, x: np.ndarray, y: np.ndarray) -> np.ndarray:
        """Values at places (n)."""
        places = np.column_stack([x, y])
        away, near = self.tree.query(places, k=self.count, distance_upper_bound=self.reach, workers=-1)
        return self._weighed(away.reshape(-1, self.count), near.reshape(-1, self.count))

    def _weighed(self, away: np.ndarray, near: np.ndarray) -> np.ndarray:
        """Means of near samples, weighed by distance; at a sample its own value."""
        if self.count == 1:
            return np.asarray(self.values[near[:, 0]])
        some = np.isfinite(away)
        # Against the nearest, so that no power of a distance is too large or small a number.
        share = np.where(some & (away > 0), away[:, :1] / np.where(some & (away > 0), away, 1.0), 0.0)
        weight = np.where(some, share**self.power, 0.0)
        held = np.where(some, self.values[near], 0.0)
        with np.errstate(invalid="ignore"):
            result = (weight * held).sum(axis=1) / weight.sum(axis=1)
        return np.asarray(np.where(away[:, 0] > 0, result, self.values[near[:, 0]]))

    def distances(self, x: np.ndarray, y: np.ndarray) -> np.ndarray:
        """Metres from places to the nearest sample (n)."""
        return np.asarray(self.tree.query(np.column_stack([x, y]), k=1, workers=-1)[0])
