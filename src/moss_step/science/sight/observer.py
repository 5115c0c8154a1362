"""Observers, and a ground that was made ready to be looked over."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from moss_step.model.arrays import read_only
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.frame import Frame, check_same_frame
from moss_step.model.mapped import row_by_row
from moss_step.model.surface import Surface
from moss_step.science.sight.rays import EARTH_RADIUS, bounds_of, patches_of, tiles_of


@dataclass(frozen=True)
class Observer:
    """Where one stands and how far one looks: heights and distances in metres, angles in degrees.

    ``absolute`` takes the height above the datum and not above the ground. Bearings run clockwise from
    ``bearing_from`` to ``bearing_to``, and all around where the two are equal; ``down`` and ``up`` limit the
    angle to the target from the level.
    """

    x: float
    y: float
    name: str = ""
    height: float = 1.7
    target: float = 0.0
    absolute: bool = False
    near: float = 0.0
    reach: float = math.inf
    bearing_from: float = 0.0
    bearing_to: float = 360.0
    down: float = -90.0
    up: float = 90.0

    @property
    def limited(self) -> bool:
        """Whether bearings or angles are limited."""
        return (self.bearing_to - self.bearing_from) % 360.0 > 0.0 or self.down > -90.0 or self.up < 90.0


@dataclass(frozen=True, eq=False)
class Sight:
    """A ground ready to be looked over: heights in metres, what blocks, and how the earth bends."""

    dem: Surface
    ground: np.ndarray
    top: np.ndarray
    tiles: np.ndarray
    bounds: tuple[np.ndarray, np.ndarray, np.ndarray]
    sizes: np.ndarray
    bend: float
    datum: float = 0.0
    """Metres that ``ground`` and ``top`` lie above the heights' own zero: 0 unless the ground is in double
    precision.
    """

    @property
    def frame(self) -> Frame:
        """Frame of the ground."""
        return self.dem.frame


def prepare_sight(
    dem: Surface, obstacles: Surface | None = None, curvature: bool = True, refraction: float = 0.13
) -> Sight:
    """Make a ground ready; ``obstacles`` are the heights of the highest surface (above the datum, not the
    ground), in the same frame.

    Heights of an unknown unit count as metres.

    Parameters
    ----------
    dem
        The ground: heights in its unit, of shape (rows, cols); NaN is no-data.
    obstacles
        Heights of the highest surface above the datum, cell on cell with the ground; None for bare
        ground.
    curvature
        Whether the ground falls away with the earth.
    refraction
        Coefficient of refraction, 0.13 in the usual air (common practice).

    Returns
    -------
    Sight
        The ground ready for looking.

    Raises
    ------
    MossError
        For a ground without values, values that are no heights, or obstacles that do not lie cell on
        cell.

    Source
    ------
    Coefficient of refraction 0.13: common practice.

    Examples
    --------
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.sight.observer import prepare_sight
    >>> prepare_sight(tilted()).top.shape
    (4, 5)
    """
    if dem.valid_count == 0:
        raise MossError("The ground holds no values.", "Choose another ground.")
    ground, top, datum = in_metres(dem, obstacles)
    return bounded(dem, ground, top, bend_of(curvature, refraction), datum)


def in_metres(dem: Surface, obstacles: Surface | None) -> tuple[np.ndarray, np.ndarray, float]:
    """Heights of the ground and of what blocks in single precision, and how many metres above their zero.

    Parameters
    ----------
    dem
        The ground, of shape (rows, cols); NaN is no-data.
    obstacles
        Heights of the highest surface above the datum; None for bare ground.

    Returns
    -------
    tuple[np.ndarray, np.ndarray, float]
        Two grids of metres, float32, the same one where nothing stands on the ground; and metres.

    Raises
    ------
    MossError
        For obstacles that do not lie cell on cell.

    Examples
    --------
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.sight.observer import in_metres
    >>> ground, top, datum = in_metres(tilted(), None)
    >>> ground is top, datum
    (True, 0.0)
    """
    level, base = dem.levelled
    scale = np.float32(dem.metres_per_height)
    ground, datum = np.ascontiguousarray(level.values), base * dem.metres_per_height
    if scale != 1:
        ground = row_by_row(lambda v: v * scale, np.float32, ground)
    if obstacles is None:
        return ground, ground, datum
    check_same_frame(obstacles.frame, dem.frame, "The obstacles and the ground")
    metres = obstacles.metres_per_height

    def higher(ground: np.ndarray, standing: np.ndarray) -> np.ndarray:
        raised = (standing.astype(np.float64) * metres - datum).astype(np.float32)
        with np.errstate(invalid="ignore"):
            return np.where(raised > ground, raised, ground)

    return ground, row_by_row(higher, np.float32, ground, obstacles.values), datum


def bend_of(curvature: bool, refraction: float) -> float:
    """How far the ground falls away by the square of its distance.

    Parameters
    ----------
    curvature
        Whether it falls away with the earth.
    refraction
        Coefficient of refraction.

    Returns
    -------
    float
        Metres a square metre.

    Examples
    --------
    >>> from moss_step.science.sight.observer import bend_of
    >>> round(bend_of(True, 0.13) * 1000.0**2, 4)
    0.0683
    """
    return (1.0 - refraction) / (2.0 * EARTH_RADIUS) if curvature else 0.0


def bounded(dem: Surface, ground: np.ndarray, top: np.ndarray, bend: float, datum: float) -> Sight:
    """A ground whose heights are in metres already, ready to be looked over.

    Parameters
    ----------
    dem
        The ground as it was given.
    ground
        Its heights, float32 of shape (rows, cols).
    top
        Heights that block, or ``ground`` itself.
    bend
        How far it falls away, as ``bend_of`` gives it.
    datum
        How many metres the zero of these heights lies above their datum.

    Returns
    -------
    Sight
        The ground ready for looking.

    Examples
    --------
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.sight.observer import bounded
    >>> bounded(tilted(), tilted().values, tilted().values, 0.0, 0.0).sizes.shape
    (4, 2)
    """
    for array in (ground, top):
        array.flags.writeable = False
    patches = patches_of(top)
    near, short, long = (read_only(bound) for bound in bounds_of(patches))
    return Sight(
        dem, ground, top, read_only(tiles_of(patches)), (near, short, long), sizes_of(dem.frame), bend, datum
    )


def sizes_of(frame: Frame) -> np.ndarray:
    """Width and height of the cells of each row.

    Parameters
    ----------
    frame
        Rows, columns, cell size and reference system of the grid.

    Returns
    -------
    np.ndarray
        Metres, float64 of shape (rows, 2).

    Examples
    --------
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.sight.observer import sizes_of
    >>> sizes_of(tilted().frame)[0].tolist()
    [2.0, 2.0]
    """
    return np.stack([frame.row_widths, frame.row_heights], axis=1)


def _named(observer: Observer) -> str:
    return observer.name or f"{observer.x:g}, {observer.y:g}"


def cell_of(frame: Frame, observer: Observer) -> tuple[int, int]:
    """Row and column that an observer stands in.

    Parameters
    ----------
    frame
        Rows, columns, cell size and reference system of the grid.
    observer
        Place, heights, reach and limits of one observer.

    Returns
    -------
    tuple[int, int]
        Row and column.

    Raises
    ------
    MossError
        For one outside the ground.

    Examples
    --------
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.sight.observer import Observer, cell_of
    >>> cell_of(tilted().frame, Observer(1.0, 1.0))
    (3, 0)
    """
    cell = frame.cell_at(observer.x, observer.y)
    if cell is None:
        raise MossError(f"Observer {_named(observer)} stands outside the ground.", "Move it onto the ground.")
    return cell


def place_of(sight: Sight, observer: Observer) -> tuple[tuple[int, int], float]:
    """Cell and eye height in metres of an observer.

    Parameters
    ----------
    sight
        The ground with what stands on it, made by ``prepare_sight``.
    observer
        Place, heights, reach and limits of one observer.

    Returns
    -------
    tuple[tuple[int, int], float]
        Row and column, and metres above the datum.

    Raises
    ------
    AskedWronglyError
        For a reach that reaches no cell.
    MossError
        For one outside the ground, on no-data or below the ground.

    Examples
    --------
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.sight.observer import Observer, place_of, prepare_sight
    >>> (row, col), eye = place_of(prepare_sight(tilted()), Observer(1.0, 1.0))
    >>> row, col, round(eye + prepare_sight(tilted()).datum, 3)
    (3, 0, 1.7)
    """
    cell = cell_of(sight.frame, observer)
    name = _named(observer)
    z = float(sight.ground[cell])
    if math.isnan(z):
        raise MossError(f"Observer {name} stands on no-data.", "Move it to a place that has a height.")
    eye = observer.height - sight.datum if observer.absolute else z + observer.height
    if eye < z:
        raise MossError(
            f"Observer {name} would be {z - eye:.2f} m below the ground.",
            "Give it a height above the ground.",
        )
    if observer.reach <= 0 or observer.near >= observer.reach:
        raise AskedWronglyError(
            f"Observer {name} has a reach of {observer.reach:g} m.",
            "Give a reach above 0 and above the nearest distance.",
        )
    return cell, eye


def within_bearings(bearings: np.ndarray, observer: Observer) -> np.ndarray:
    """Which bearings in degrees an observer looks along; equal limits are the full circle.

    Parameters
    ----------
    bearings
        Degrees clockwise from north, any shape; -1 is flat, NaN no-data.
    observer
        Place, heights, reach and limits of one observer.

    Returns
    -------
    np.ndarray
        Booleans of the shape given.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.sight.observer import Observer, within_bearings
    >>> north_east = Observer(0.0, 0.0, bearing_from=0.0, bearing_to=90.0)
    >>> within_bearings(np.array([10.0, 100.0]), north_east).tolist()
    [True, False]
    """
    span = (observer.bearing_to - observer.bearing_from) % 360.0 or 360.0
    turned = (bearings - observer.bearing_from) % 360.0
    return np.asarray((turned <= span + 1e-9) | (turned > 360.0 - 1e-9))
