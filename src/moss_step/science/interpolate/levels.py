"""What a surface holds below a level, or lifts above it: volumes, areas and depths, at one or at all."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from moss_step.model.arrays import as_short
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.surface import Surface
from moss_step.model.tin import Tin
from moss_step.model.typed import as_kind, of_kind
from moss_step.science.interpolate.kernels.prisms import cells_below
from moss_step.science.interpolate.tin import Held, storage_of_tin
from moss_step.science.relief.gradient import slope

_HALVINGS = 60


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


def levels_of(value: Surface | Tin, below: bool = True, steps: int = 100) -> Levels:
    """Area and volume at every level, from the first ground that it reaches to all of it.

    Parameters
    ----------
    value
        Heights on a grid or a TIN.
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
    if value.range is None:
        raise MossError("The surface has no values.", "Choose another.")
    low, high = value.range
    levels = np.linspace(low, high, steps + 1)
    grid = of_kind(value, Surface)
    if grid is not None:
        return _of_sorted(grid, levels, below)
    held = [_held(value, float(v), below) for v in levels]
    return Levels(levels, np.array([h.plan_area for h in held]), np.array([h.volume for h in held]))


def _held(value: Surface | Tin, level: float, below: bool) -> Held:
    grid = of_kind(value, Surface)
    return (
        storage_of_tin(as_kind(value, Tin), level, below)
        if grid is None
        else storage_of_grid(grid, level, below)
    )


def _of_sorted(surface: Surface, levels: np.ndarray, below: bool) -> Levels:
    """Sums over the heights in their order: each cell is met once, however many levels there are."""
    known = ~np.isnan(surface.values)
    z = surface.values[known].astype(np.float64)
    areas = np.broadcast_to(surface.frame.row_areas[:, None], known.shape)[known]
    order = np.argsort(z, kind="stable")
    z, areas = z[order], areas[order]
    base = z[0]
    area = np.concatenate([[0.0], np.cumsum(areas)])
    moment = np.concatenate([[0.0], np.cumsum(areas * (z - base))])
    place = np.searchsorted(z, levels, side="left" if below else "right")
    metre = surface.metres_per_height
    if below:
        return Levels(levels, area[place], ((levels - base) * area[place] - moment[place]) * metre)
    left, over = area[-1] - area[place], moment[-1] - moment[place]
    return Levels(levels, left, (over - (levels - base) * left) * metre)


def level_for(value: Surface | Tin, volume: float, below: bool = True) -> float:
    """The level below which, or above which, a surface holds a volume.

    Parameters
    ----------
    value
        Heights on a grid or a TIN.
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
    if value.range is None:
        raise MossError("The surface has no values.", "Choose another.")
    low, high = value.range

    def held(level: float) -> float:
        return _held(value, level, below).volume

    most = held(high if below else low)
    if volume > most:
        raise AskedWronglyError(
            f"`volume`: {volume:g} m³ is more than all of it holds, {most:,.6g} m³.", "Ask for less."
        )
    curve = levels_of(value, below)
    order = np.argsort(curve.volume, kind="stable")
    place = int(np.searchsorted(curve.volume[order], volume))
    near = curve.level[order][[max(place - 1, 0), min(place, len(order) - 1)]]
    a, b = float(near.min()), float(near.max())
    for _ in range(_HALVINGS):
        middle = (a + b) / 2.0
        if (held(middle) < volume) == below:
            a = middle
        else:
            b = middle
        if b - a <= 1e-9 * (high - low):
            break
    return (a + b) / 2.0
