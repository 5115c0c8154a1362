"""What a surface holds below a level, or lifts above it: volumes, areas and depths, at one or at all."""

from __future__ import annotations

from dataclasses import dataclass
from typing import cast

import numpy as np

from moss_step.model.arrays import as_short
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.surface import Surface
from moss_step.science.interpolate.kernels.prisms import cells_below
from moss_step.science.interpolate.tin import Held
from moss_step.science.relief.gradient import slope


@dataclass(frozen=True, eq=False)
class Levels:
    """Levels from the first ground that is reached to all of it (n), in the unit of the heights, with square
    metres on the plan and cubic metres (n).
    """

    level: np.ndarray
    area: np.ndarray
    volume: np.ndarray


def storage_of_grid(surface: Surface, level: float, below: bool = True) -> Held:
    """Volume and areas of a grid under a level, or over it: each cell a column to its height.

    Parameters
    ----------
    surface
        Heights (rows, cols); NaN is no-data.
    level
        The level, in the unit of the heights.
    below
        Whether what lies below it counts, as water does; else what stands above.

    Returns
    -------
    Held
        Cubic and square metres; the area on the ground is the plan's over the cosine of the slope.

    Examples
    --------
    >>> from moss_step.science.interpolate.levels import storage_of_grid
    >>> from moss_step.science.sample import ground
    >>> held = storage_of_grid(ground([[1.0, 2.0], [3.0, 9.0]]), 4.0)
    >>> held.volume, held.plan_area, held.greatest_depth
    (24.0, 12.0, 3.0)
    """
    metre = surface.metres_per_height
    sums = np.zeros(4)
    steep = np.ones(surface.frame.shape)
    if min(surface.frame.shape) > 1:
        steep = np.hypot(1.0, np.nan_to_num(slope(surface, "percent").values).astype(np.float64) / 100.0)
    level_ground, base = surface.levelled
    cells_below(level_ground.values, steep, surface.frame.row_areas, level - base, below, sums)
    return Held(float(sums[0]) * metre, float(sums[1]), float(sums[2]), float(sums[3]))


def depth_at(surface: Surface, level: float, below: bool = True) -> Surface:
    """Depth under a level, or height above it; no-data elsewhere.

    Parameters
    ----------
    surface
        Heights (rows, cols); NaN is no-data.
    level
        The level, in the unit of the heights.
    below
        Whether depths below it are asked for, or heights above.

    Returns
    -------
    Surface
        Depths in the unit of the heights, NaN where there is none.

    Examples
    --------
    >>> from moss_step.science.interpolate.levels import depth_at
    >>> from moss_step.science.sample import tilted
    >>> depth_at(tilted(), 3.0).values[0].tolist()
    [3.0, 1.0, nan, nan, nan]
    """
    held, base = surface.levelled
    off = np.float32(level - base) - held.values
    off = off if below else -off
    with np.errstate(invalid="ignore"):
        depth = np.where(off > 0, off, np.float32(np.nan))
    return Surface(as_short(depth), surface.frame, surface.unit, "depth")


def levels_of(surface: Surface, below: bool = True, steps: int = 100) -> Levels:
    """Area and volume at every level, from the first ground that it reaches to all of it.

    Parameters
    ----------
    surface
        Heights (rows, cols); NaN is no-data.
    below
        Whether what lies below a level counts; else what stands above it.
    steps
        Levels beside the first.

    Returns
    -------
    Levels
        The curve, from low levels to high ones.

    Raises
    ------
    MossError
        For a surface without values.

    Examples
    --------
    >>> from moss_step.science.interpolate.levels import levels_of
    >>> from moss_step.science.sample import ground
    >>> made = levels_of(ground([[0.0, 2.0], [4.0, 4.0]]), steps=2)
    >>> made.level.tolist(), made.volume.tolist()
    ([0.0, 2.0, 4.0], [0.0, 8.0, 24.0])
    """
    columns, sign = _Columns.of(surface, below), 1.0 if below else -1.0
    low, high = cast(tuple[float, float], surface.range)
    levels = np.linspace(low, high, steps + 1)
    return Levels(levels, *columns.held(sign * levels - columns.base))


@dataclass(frozen=True, eq=False)
class _Columns:
    """The cells of a grid in the order of their heights above a base (n), with sums of their areas, and of
    areas times heights, of those before each (n + 1): each cell is met once, however many levels there are.
    """

    base: float
    heights: np.ndarray
    area: np.ndarray
    moment: np.ndarray
    metre: float

    @classmethod
    def of(cls, surface: Surface, below: bool) -> _Columns:
        """Those that a rising level meets; for what stands above, those that a falling one does.

        Raises MossError for a surface without values.
        """
        if surface.range is None:
            raise MossError("The surface has no values.", "Choose another.")
        known = ~np.isnan(surface.values)
        z = surface.values[known].astype(np.float64)
        areas = np.broadcast_to(surface.frame.row_areas[:, None], known.shape)[known]
        z = z if below else -z
        order = np.argsort(z, kind="stable")
        base, areas = float(z[order[0]]), areas[order]
        z = z[order] - base
        area, moment = (np.concatenate([[0.0], np.cumsum(v)]) for v in (areas, areas * z))
        return cls(base, z, area, moment, surface.metres_per_height)

    def held(self, levels: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Square metres and cubic metres up to levels above the base."""
        place = np.searchsorted(self.heights, levels, side="left")
        return self.area[place], (levels * self.area[place] - self.moment[place]) * self.metre

    def level_of(self, volume: float) -> float:
        """The level above the base up to which there is a volume: between two cells it grows evenly."""
        wanted = volume / self.metre
        at_cells = self.heights * self.area[:-1] - self.moment[:-1]
        place = int(np.searchsorted(at_cells, wanted, side="left"))
        return float((wanted + self.moment[place]) / self.area[place]) if place else 0.0


def level_for(surface: Surface, volume: float, below: bool = True) -> float:
    """The level below which, or above which, a surface holds a volume.

    Parameters
    ----------
    surface
        Heights (rows, cols); NaN is no-data.
    volume
        Cubic metres.
    below
        Whether what lies below the level counts; else what stands above it.

    Returns
    -------
    float
        The level in the unit of the heights, within the range of the surface.

    Raises
    ------
    MossError
        For a surface without values.
    AskedWronglyError
        Where all of it holds less.

    Examples
    --------
    >>> from moss_step.science.interpolate.levels import level_for
    >>> from moss_step.science.sample import ground
    >>> round(level_for(ground([[0.0, 2.0], [4.0, 4.0]]), 8.0), 6)
    2.0
    """
    columns = _Columns.of(surface, below)
    _, most = columns.held(np.array([columns.heights[-1]]))
    if volume > float(most[0]):
        raise AskedWronglyError(
            f"`volume`: {volume:g} m³ is more than all of it holds, {float(most[0]):,.6g} m³.",
            "Ask for less.",
        )
    return (1.0 if below else -1.0) * (columns.base + columns.level_of(volume))
