"""Slope, aspect and hillshade from the gradient of an elevation grid.

Two ways to the gradient: third-order differences weighted 1-2-1 over eight neighbours (Horn 1981, Proc. IEEE
69(1)), and the second-order fit through four neighbours (Zevenbergen & Thorne 1987, Earth Surface Processes
and Landforms 12). Beside an edge or no-data each difference uses the cells that exist: one-sided where a
neighbour is missing, left out where none is. A plane keeps its exact gradient there.
"""

from __future__ import annotations

import math
from typing import Literal

import numpy as np

from moss_step.model.errors import MossError
from moss_step.model.progress import Progress, silent
from moss_step.model.surface import FLAT, Surface
from moss_step.model.units import BEARING, DEGREE, PERCENT, SHADE
from moss_step.science.relief.kernels.gradient import (
    ASPECT,
    DEGREES,
    PERCENT_KERNEL,
    SHADE_KERNEL,
    measure_rows,
)

Method = Literal["horn", "quadratic"]
SlopeUnit = Literal["degrees", "percent"]

BLOCK_ROWS = 512


def slope(
    dem: Surface,
    unit: SlopeUnit = "degrees",
    method: Method = "horn",
    z_factor: float = 1.0,
    progress: Progress | None = None,
) -> Surface:
    """Slope of a ground: its angle in degrees or its tangent in percent, as a float32 surface.

    Distances are ground metres (ellipsoidal, by row, for longitude and latitude); heights are converted to
    metres and multiplied by ``z_factor``. 45 degrees is 100 percent.

    Parameters
    ----------
    dem
        The ground: heights in its unit, of shape (rows, cols); NaN is no-data.
    unit
        The unit asked for.
    method
        Which of the published methods, see above.
    z_factor
        What heights are multiplied by beside their unit.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    Surface
        Degrees or percent, float32.

    Raises
    ------
    MossError
        For grids of fewer than 2 x 2 cells.

    Source
    ------
    Horn 1981, Proceedings of the IEEE 69; Zevenbergen & Thorne 1987, Earth Surface Processes and Landforms
    12.

    Examples
    --------
    >>> from moss_step.science.relief.gradient import slope
    >>> from moss_step.science.sample import tilted
    >>> float(slope(tilted()).values[1, 2])
    45.0
    """
    measure = DEGREES if unit == "degrees" else PERCENT_KERNEL
    values = _measure(
        dem, measure, method, z_factor, (0.0, 0.0, 1.0), progress or silent(), "Working out slope"
    )
    return Surface(values, dem.frame, DEGREE if unit == "degrees" else PERCENT, "slope")


def aspect(dem: Surface, method: Method = "horn", progress: Progress | None = None) -> Surface:
    """Direction that each cell faces (downslope), degrees clockwise from the grid's north, 0 <= a < 360; flat
    cells hold -1.

    Parameters
    ----------
    dem
        The ground: heights in its unit, of shape (rows, cols); NaN is no-data.
    method
        Which of the published methods, see above.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    Surface
        Degrees clockwise from grid north, -1 where flat, float32.

    Raises
    ------
    MossError
        For grids of fewer than 2 x 2 cells.

    Source
    ------
    Horn 1981, Proceedings of the IEEE 69; Zevenbergen & Thorne 1987, Earth Surface Processes and Landforms
    12.

    Examples
    --------
    >>> from moss_step.science.relief.gradient import aspect
    >>> from moss_step.science.sample import tilted
    >>> float(aspect(tilted()).values[1, 2])  # it falls to the west
    270.0
    """
    values = _measure(dem, ASPECT, method, 1.0, (0.0, 0.0, 1.0), progress or silent(), "Working out aspect")
    return Surface(values, dem.frame, BEARING, "aspect")


def hillshade(
    dem: Surface,
    azimuth: float = 315.0,
    altitude: float = 45.0,
    z_factor: float = 1.0,
    progress: Progress | None = None,
) -> Surface:
    """Light that each cell gets from a lamp at ``azimuth`` (degrees from north) and ``altitude`` (degrees), 0
    to 255.

    Lambert's cosine law on the gradient after Horn; cells turned away hold 0.

    Parameters
    ----------
    dem
        The ground: heights in its unit, of shape (rows, cols); NaN is no-data.
    azimuth
        Degrees from north that the light comes from.
    altitude
        Degrees that the light stands above the horizon.
    z_factor
        What heights are multiplied by beside their unit.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    Surface
        0 to 255, float32.

    Raises
    ------
    MossError
        For grids of fewer than 2 x 2 cells.

    Source
    ------
    Horn 1981, Proceedings of the IEEE 69.

    Examples
    --------
    >>> from moss_step.science.relief.gradient import hillshade
    >>> from moss_step.science.sample import tilted
    >>> dem = tilted()  # rises by 2 m a cell of 2 m to the east
    >>> bool(hillshade(dem, azimuth=270.0).values[1, 2] > hillshade(dem, azimuth=90.0).values[1, 2])
    True
    """
    light = light_vector(azimuth, altitude)
    values = _measure(dem, SHADE_KERNEL, "horn", z_factor, light, progress or silent(), "Shading")
    return Surface(values, dem.frame, SHADE, "shade")


def light_vector(azimuth: float, altitude: float) -> tuple[float, float, float]:
    """Unit vector (east, north, up) towards a lamp at an azimuth and altitude in degrees.

    Parameters
    ----------
    azimuth
        Degrees from north that the light comes from.
    altitude
        Degrees that the light stands above the horizon.

    Returns
    -------
    tuple[float, float, float]
        East, north and up.

    Examples
    --------
    >>> from moss_step.science.relief.gradient import light_vector
    >>> [round(part, 6) for part in light_vector(90.0, 30.0)]  # east, north, up
    [0.866025, 0.0, 0.5]
    """
    a, h = math.radians(azimuth), math.radians(altitude)
    return math.sin(a) * math.cos(h), math.cos(a) * math.cos(h), math.sin(h)


def gradient_weights(dem: Surface, z_factor: float = 1.0) -> tuple[np.ndarray, np.ndarray]:
    """Metres of height per metre of ground for a difference of one height unit over one cell, by row
    (float32).

    Parameters
    ----------
    dem
        The ground: heights in its unit, of shape (rows, cols); NaN is no-data.
    z_factor
        What heights are multiplied by beside their unit.

    Returns
    -------
    tuple[np.ndarray, np.ndarray]
        Two arrays (rows): to the east and to the north.

    Examples
    --------
    >>> from moss_step.science.relief.gradient import gradient_weights
    >>> from moss_step.science.sample import tilted
    >>> east, south = gradient_weights(tilted())
    >>> float(east[0]), float(south[0])
    (0.5, 0.5)
    """
    scale = dem.metres_per_height * z_factor
    return (scale / dem.frame.row_widths).astype(np.float32), (scale / dem.frame.row_heights).astype(
        np.float32
    )


def _measure(
    dem: Surface,
    measure: int,
    method: Method,
    z_factor: float,
    light: tuple[float, float, float],
    progress: Progress,
    doing: str,
) -> np.ndarray:
    rows, cols = dem.frame.shape
    if rows < 2 or cols < 2:
        raise MossError(
            f"{doing} needs at least 2 x 2 cells; this grid has {rows} x {cols}.", "Open a larger grid."
        )
    ax, ay = gradient_weights(dem, z_factor)
    level, _ = dem.levelled
    out = np.empty((rows, cols), np.float32)
    lamp = np.array(light, np.float32)
    for first, last in progress.blocks(rows, BLOCK_ROWS, doing):
        measure_rows(level.values, ax, ay, first, last, method == "horn", measure, lamp, out)
    return out


def flat_share(aspect_surface: Surface) -> float:
    """Share of the valid cells that are flat (0 to 1).

    Parameters
    ----------
    aspect_surface
        Bearings, -1 where flat.

    Returns
    -------
    float
        Share of 1.

    Examples
    --------
    >>> from moss_step.science.relief.gradient import aspect, flat_share
    >>> from moss_step.science.sample import ground
    >>> flat_share(aspect(ground([[1, 1, 1], [1, 1, 1], [1, 1, 1]])))
    1.0
    """
    valid = aspect_surface.valid_count
    return float(np.count_nonzero(aspect_surface.values == FLAT)) / valid if valid else 0.0
