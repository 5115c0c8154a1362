"""Indices of water on a ground: wetness, stream power, sediment transport, length-slope, and height above the
nearest drain.
"""

from __future__ import annotations

from typing import Literal

import numpy as np

from moss_step.model.frame import Frame
from moss_step.model.mapped import row_by_row
from moss_step.model.progress import Progress, silent
from moss_step.model.surface import Surface
from moss_step.model.units import NONE as NO_UNIT
from moss_step.science.relief.gradient import slope as derive_slope
from moss_step.science.water.accumulation import CONVERGENCE, FlowMethod
from moss_step.science.water.drainage import Drainage, accumulated
from moss_step.science.water.kernels.indices import down_to
from moss_step.science.water.kernels.neighbours import Course
from moss_step.science.water.trace import down_order

_ROWS = 256
Power = Literal["power", "sediment", "length_slope"]
LEAST_SLOPE = 0.001
"""Tangent that level cells are given, so that the index stays finite; common practice."""


def specific_area(
    drainage: Drainage, method: FlowMethod, exponent: float = CONVERGENCE, progress: Progress | None = None
) -> np.ndarray:
    """Area upstream of each metre of contour: square metres a metre, by the mean width of a cell.

    Parameters
    ----------
    drainage
        The ground prepared for water, by ``drainage.prepare``.
    method
        Which of the published methods, see above.
    exponent
        Power of the slope.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    np.ndarray
        Metres, float32 of shape (rows, cols).

    Examples
    --------
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.water.drainage import prepare
    >>> from moss_step.science.water.indices import specific_area
    >>> specific_area(prepare(tilted()), "d8")[1].tolist()  # m² a metre of contour
    [10.0, 8.0, 6.0, 4.0, 2.0]
    """
    area = accumulated(drainage, method, "area", exponent=exponent, progress=progress).values
    return np.asarray(area / mean_width(drainage.frame))


def mean_width(frame: Frame) -> np.ndarray:
    """Mean width of the cells of each row.

    Parameters
    ----------
    frame
        Rows, columns, cell size and reference system of the grid.

    Returns
    -------
    np.ndarray
        Metres, of shape (rows, 1).

    Examples
    --------
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.water.indices import mean_width
    >>> mean_width(tilted().frame)[0].tolist()
    [2.0]
    """
    return np.asarray(np.sqrt(frame.row_areas)[:, None])


def wetness(
    drainage: Drainage,
    method: FlowMethod = "dinf",
    exponent: float = CONVERGENCE,
    progress: Progress | None = None,
) -> Surface:
    """Topographic wetness, ln(a / tan b): Beven & Kirkby 1979, Hydrological Sciences Bulletin 24.

    Parameters
    ----------
    drainage
        The ground prepared for water, by ``drainage.prepare``.
    method
        Which of the published methods, see above.
    exponent
        Power of the slope.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    Surface
        Without a unit, float32.

    Source
    ------
    Beven & Kirkby 1979, Hydrological Sciences Bulletin 24.

    Examples
    --------
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.water.drainage import prepare
    >>> from moss_step.science.water.indices import wetness
    >>> wetness(prepare(tilted()), "d8").values[1].astype(float).round(2).tolist()
    [2.3, 2.08, 1.79, 1.39, 0.69]
    """
    area = specific_area(drainage, method, exponent, progress)
    return Surface(wetness_of(area, _tangent(drainage)), drainage.frame, NO_UNIT, "wetness")


def wetness_of(area: np.ndarray, tangent: np.ndarray) -> np.ndarray:
    """Topographic wetness from the area upstream of each metre of contour, and the slope.

    Parameters
    ----------
    area
        Metres, of any shape.
    tangent
        Tangents of the slope, of the same shape; what is below ``LEAST_SLOPE`` counts as that.

    Returns
    -------
    np.ndarray
        Without a unit, float32 of the same shape.

    Source
    ------
    Beven & Kirkby 1979, Hydrological Sciences Bulletin 24.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.water.indices import wetness_of
    >>> wetness_of(np.array([10.0, 10.0]), np.array([0.1, 0.0])).astype(float).round(2).tolist()
    [4.61, 9.21]
    """
    with np.errstate(divide="ignore"):  # a slope beyond all numbers, which is refused later
        values: np.ndarray = np.log(area / np.maximum(tangent, LEAST_SLOPE)).astype(np.float32)
    return values


def stream_power(
    drainage: Drainage,
    index: Power = "power",
    method: FlowMethod = "dinf",
    exponent: float = CONVERGENCE,
    progress: Progress | None = None,
) -> Surface:
    """Power (a tan b), sediment transport capacity, or length-slope factor.

    Moore & Burch 1986, Soil Science Society of America Journal 50: (a / 22.13)^0.6 (sin b / 0.0896)^1.3 for
    transport; for the length-slope factor 1.4 times that with 0.4 as the first exponent (Moore & Wilson
    1992), without the 1.4 here so that the unit plot of 22.13 m at 9 % gives 1 (Wischmeier & Smith 1978).

    Parameters
    ----------
    drainage
        The ground prepared for water, by ``drainage.prepare``.
    index
        Which of the indices.
    method
        Which of the published methods, see above.
    exponent
        Power of the slope.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    Surface
        Without a unit, float32.

    Source
    ------
    Moore & Burch 1986, Soil Science Society of America Journal 50; Wischmeier & Smith 1978, USDA Handbook
    537.

    Examples
    --------
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.water.drainage import prepare
    >>> from moss_step.science.water.indices import stream_power
    >>> stream_power(prepare(tilted()), "power", "d8").values[1].round(2).tolist()
    [10.0, 8.0, 6.0, 4.0, 2.0]
    """
    progress = progress or silent()
    area, tangent = specific_area(drainage, method, exponent, progress.part(0.0, 0.8)), _tangent(drainage)
    values = np.empty(area.shape, np.float32)
    for first, last in progress.part(0.8, 1.0).blocks(len(area), _ROWS, "Working out the index"):
        values[first:last] = power_of(area[first:last], tangent[first:last], index)
    return Surface(values, drainage.frame, NO_UNIT, "index")


def power_of(area: np.ndarray, tangent: np.ndarray, index: Power) -> np.ndarray:
    """One of the indices of ``stream_power`` from the area upstream of each metre of contour, and the slope.

    Parameters
    ----------
    area
        Metres, of any shape.
    tangent
        Tangents of the slope, of the same shape.
    index
        Which of the indices.

    Returns
    -------
    np.ndarray
        Without a unit, float32 of the same shape.

    Source
    ------
    Moore & Burch 1986, Soil Science Society of America Journal 50; Wischmeier & Smith 1978, USDA Handbook
    537.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.water.indices import power_of
    >>> power_of(np.array([22.13]), np.array([0.09]), "length_slope").round(2).tolist()  # the unit plot
    [1.0]
    """
    if index == "power":
        return np.asarray(area * tangent, np.float32)
    sine = tangent / np.hypot(1.0, tangent)
    power = 0.6 if index == "sediment" else 0.4
    return np.asarray((area / 22.13) ** power * (sine / 0.0896) ** 1.3, np.float32)


def _tangent(drainage: Drainage) -> np.ndarray:
    return np.asarray(derive_slope(drainage.dem, "percent").values / np.float32(100.0))


def drain_height(drainage: Drainage, stream: np.ndarray, progress: Progress | None = None) -> Surface:
    """Height above the nearest drain along the way of the water, in the unit of the ground; no-data where
    none is met.

    Rennó et al. 2008, HAND, a new terrain descriptor, Remote Sensing of Environment 112.

    Parameters
    ----------
    drainage
        The ground prepared for water, by ``drainage.prepare``.
    stream
        Cells of streams, uint8 of shape (rows, cols).
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    Surface
        In the unit of the ground, float32.

    Source
    ------
    Rennó et al. 2008, Remote Sensing of Environment 112.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.water.drainage import prepare
    >>> from moss_step.science.water.indices import drain_height
    >>> stream = np.zeros((4, 5), np.uint8)
    >>> stream[:, 0] = 1
    >>> drain_height(prepare(tilted()), stream).values[1].tolist()
    [0.0, 2.0, 4.0, 6.0, 8.0]
    """
    dem = drainage.dem
    drain, out = np.empty(dem.values.shape, np.float32), np.full(dem.values.shape, np.float32(np.nan))
    progress = progress or silent()
    order = down_order(drainage, progress.part(0.0, 0.5))
    with progress.pulse(order.size, 0.5, 1.0, "Measuring heights above drains") as pulse:
        down_to(drainage.z, Course(drainage.ways, drainage.metres, order), stream, drain, out, pulse)
    return Surface(out, dem.frame, dem.unit, "drain_height")


def stage_curve(
    above_drain: Surface, steps: int = 200, most: float | None = None
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Stages, and the area (m²) and volume (m³) that lie under each: in the unit of the heights.

    Parameters
    ----------
    above_drain
        Heights above the drain.
    steps
        Number of steps.
    most
        The most that there may be.

    Returns
    -------
    tuple[np.ndarray, np.ndarray, np.ndarray]
        Three arrays of ``steps`` values.

    Examples
    --------
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.water.indices import stage_curve
    >>> stage, area, volume = stage_curve(tilted(), steps=2, most=4.0)
    >>> stage.tolist(), area.tolist(), volume.tolist()
    ([0.0, 2.0, 4.0], [0.0, 16.0, 32.0], [0.0, 32.0, 96.0])
    """
    values = above_drain.values
    top = most if most is not None else (above_drain.range or (0.0, 1.0))[1]
    stages = np.linspace(0.0, top, steps + 1)
    weight = np.broadcast_to(above_drain.frame.row_areas[:, None], values.shape)
    known = ~np.isnan(values) & (values < top)
    place = np.minimum((values[known] / top * steps).astype(np.int64), steps - 1)
    area = np.bincount(place, weight[known], minlength=steps)
    moment = np.bincount(place, weight[known] * values[known].astype(np.float64), minlength=steps)
    under = np.concatenate([[0.0], np.cumsum(area)])
    volume = stages * under - np.concatenate([[0.0], np.cumsum(moment)])
    return stages, under, volume * above_drain.metres_per_height


def flooded(above_drain: Surface, stage: float) -> Surface:
    """Depth of water where the ground lies below a stage above its nearest drain; no-data elsewhere.

    Parameters
    ----------
    above_drain
        Heights above the drain.
    stage
        Height of the water above the drains, in the unit of the heights.

    Returns
    -------
    Surface
        Depth in the unit of the heights, float32.

    Examples
    --------
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.water.indices import flooded
    >>> flooded(tilted(), 3.0).values[0].tolist()
    [3.0, 1.0, nan, nan, nan]
    """

    def under(above: np.ndarray) -> np.ndarray:
        with np.errstate(invalid="ignore"):
            return np.where(above < stage, np.float32(stage) - above, np.float32(np.nan))

    depth = row_by_row(under, np.result_type(above_drain.values, np.float32), above_drain.values)
    return Surface(depth, above_drain.frame, above_drain.unit, "depth")
