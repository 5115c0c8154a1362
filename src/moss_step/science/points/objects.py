"""Points that stand on the ground, and what they are: by likelihood over the shapes around them, and by a
class of one's own.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np

from moss_step.model.cloud import BUILDING, GROUND, HIGH_PLANTS, LYING, WIRE, Cloud
from moss_step.model.errors import MossError
from moss_step.model.frame import Frame
from moss_step.model.point_model import PointModel
from moss_step.model.progress import Progress, silent
from moss_step.science.points.blocks import MOST, blocks_of
from moss_step.science.points.cells import cells_of
from moss_step.science.points.features import HEIGHT, columns_for
from moss_step.science.points.gaps import filled
from moss_step.science.points.grids import grid_points, heights_above
from moss_step.science.points.ground import usual_cell
from moss_step.science.points.learning import calmed, shares_of, within_reach
from moss_step.science.points.near import frame_about, plan_in_metres
from moss_step.science.points.roofs import ObjectSet, bands_of
from moss_step.science.points.segments import SegmentSet, areas_of, segments_of

_FILL = 60.0
"""Metres between points of the ground up to which triangles are laid; wider gaps are filled smoothly."""
DOUBT = (0.3, 0.7)
"""Shares of a class between which a point is doubtful."""


@dataclass(frozen=True, eq=False)
class Standing:
    """Points that may get a class: in metres (k), their heights above the ground (k), their numbers in the
    cloud (k), and what they came with (k each).
    """

    flat: Cloud
    above: np.ndarray
    rows: np.ndarray
    attributes: Mapping[str, np.ndarray]


def standing(
    cloud: Cloud, codes: np.ndarray, classes: Sequence[int] = (), progress: Progress | None = None
) -> Standing:
    """The points that may get a class, with their heights above the ground.

    Parameters
    ----------
    cloud
        n points. Heights above the ground are its attribute ``height_above``, or are found between the points
        of the ground.
    codes
        Classes of the points (n).
    classes
        Classes whose points may get another; all but ground, water and noise when left out.
    progress
        Told how far it is.

    Returns
    -------
    Standing
        The points; heights are NaN where the ground is not known.

    Raises
    ------
    MossError
        Where no point is ground, and the points do not know their heights above it.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.points.objects import standing
    >>> from moss_step.science.sample import scattered
    >>> cloud = scattered(20)
    >>> codes = np.where(cloud.z > 12.0, 1, 2)
    >>> standing(cloud, codes).above.round(1).tolist()
    [4.0]
    """
    chosen = np.isin(codes, classes) if classes else ~np.isin(codes, LYING)
    rows = np.flatnonzero(chosen & np.isfinite(cloud.z))
    held = {n: np.asarray(v)[rows] for n, v in cloud.attributes.items()}
    return Standing(plan_in_metres(cloud).part(rows), heights_of(cloud, codes, rows, progress), rows, held)


def heights_of(
    cloud: Cloud, codes: np.ndarray, rows: np.ndarray, progress: Progress | None = None
) -> np.ndarray:
    """Heights of points above the ground, in metres: those that they know, or above what lies between the
    points of the ground.

    Parameters
    ----------
    cloud
        n points.
    codes
        Classes of the points (n).
    rows
        Numbers of the points that are asked for (k).
    progress
        Told how far it is.

    Returns
    -------
    np.ndarray
        Metres (float32, k); NaN where the ground is not known.

    Raises
    ------
    MossError
        Where no point is ground, and the points do not know their heights above it.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.points.objects import heights_of
    >>> from moss_step.science.sample import scattered
    >>> cloud = scattered(20)
    >>> codes = np.where(cloud.z > 12.0, 1, 2)
    >>> heights_of(cloud, codes, np.flatnonzero(codes == 1)).round(1).tolist()
    [4.0]
    """
    if HEIGHT in cloud.attributes:
        return np.asarray(np.asarray(cloud.attributes[HEIGHT])[rows] * cloud.unit.metres, np.float32)
    flat, ground = plan_in_metres(cloud), codes == GROUND
    if not ground.any():
        raise MossError(
            "No point is ground, and the points do not know their heights above it.",
            "Find the ground points first.",
        )
    below = flat.part(ground)
    cell = max(usual_cell(flat) / 2.0, 0.05)
    inner = frame_about(flat, cell)  # and two cells beyond: no point lies outside their middles
    frame = Frame(inner.rows + 4, inner.cols + 4, inner.x0 - 2.0 * cell, inner.y0 + 2.0 * cell, cell, cell)
    try:
        floor = grid_points(below, frame, "ground", _FILL, progress=progress)
    except MossError:  # too few points, or all in one line: no surface lies between them
        return np.full(len(rows), np.nan, np.float32)
    floor = replace(floor, values=filled(floor.values.astype(np.float64)))
    return heights_above(flat.part(rows), floor)


def by_blocks(
    cloud: Cloud,
    margin: float,
    work: Callable[[np.ndarray, Progress], Sequence[np.ndarray]],
    out: Sequence[np.ndarray],
    progress: Progress,
) -> None:
    """Work on all points at once or, of a large cloud, block by block, each with a margin.

    Parameters
    ----------
    cloud
        n points.
    margin
        Metres around a block.
    work
        Given numbers of points (k), gives arrays of them (k each).
    out
        Takes what it gives (n each).
    progress
        Told how far it is.

    Returns
    -------
    None
        ``out`` holds what was found.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.model.progress import silent
    >>> from moss_step.science.points.objects import by_blocks
    >>> from moss_step.science.sample import scattered
    >>> out = np.zeros(4)
    >>> by_blocks(scattered(2), 1.0, lambda rows, _: [rows * 2.0], [out], silent())
    >>> out.tolist()
    [0.0, 2.0, 4.0, 6.0]
    """
    if len(cloud) <= 2 * MOST:
        for whole, part in zip(out, work(np.arange(len(cloud)), progress), strict=True):
            whole[...] = part
        return
    blocks = blocks_of(cloud)
    for k, block in enumerate(blocks.around(margin / min(cloud.plan_metres))):
        inner = progress.part(min(k / len(blocks), 1.0), min((k + 1) / len(blocks), 1.0))
        for whole, part in zip(out, work(block.rows, inner), strict=True):
            whole[block.rows[block.own]] = part[block.own]


def columns_of(these: Standing, model: PointModel, progress: Progress | None = None) -> np.ndarray:
    """The measures of a model at points.

    Parameters
    ----------
    these
        k points.
    model
        What was learned.
    progress
        Told how far it is.

    Returns
    -------
    np.ndarray
        float32 (k, measures).

    Raises
    ------
    MossError
        For measures that no points have, and for attributes that these have not.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.model.point_model import PointModel
    >>> from moss_step.science.points.objects import Standing, columns_of
    >>> from moss_step.science.sample import scattered
    >>> these = Standing(scattered(2), np.ones(4), np.arange(4), {})
    >>> columns_of(these, PointModel("m", "forest", (), ("height_above",), (), {})).tolist()
    [[1.0], [1.0], [1.0], [1.0]]
    """
    above = np.nan_to_num(these.above, nan=0.0)
    return columns_for(these.flat, above, model.measures, these.attributes, progress)


def objects_by_likelihood(
    these: Standing, model: PointModel, how: ObjectSet, progress: Progress | None = None
) -> tuple[np.ndarray, np.ndarray]:
    """Classes of points by their likelihood over the shapes around them (Weinmann et al. 2015).

    The shares of the classes are means over the points within the second radius of the model. A building has
    the least area and height of a roof; plants are told apart by their height.

    Parameters
    ----------
    these
        k points.
    model
        What was learned of buildings, plants, wires and other things.
    how
        Bounds, in metres.
    progress
        Told how far it is.

    Returns
    -------
    tuple[np.ndarray, np.ndarray]
        Codes (uint8, k), and the share of each one's class (float32, k).

    Raises
    ------
    MossError
        For a model without these classes, or of other measures than the points have.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.model.point_model import PointClass, PointModel
    >>> from moss_step.science.points.learning import learn_gaussians
    >>> from moss_step.science.points.objects import Standing, objects_by_likelihood
    >>> from moss_step.science.points.roofs import ObjectSet
    >>> from moss_step.science.sample import scattered
    >>> arrays = learn_gaussians(np.array([[0.0], [1.0], [9.0], [8.0]]), np.array([0, 0, 1, 1]))
    >>> classes = (PointClass(5, "Plants", "#4C6B34"), PointClass(6, "Building", "#B9652A"))
    >>> model = PointModel("two", "gaussian", classes, ("height_above",), (1.0, 2.0), arrays)
    >>> these = Standing(scattered(2), np.full(4, 0.6), np.arange(4), {})
    >>> objects_by_likelihood(these, model, ObjectSet())[0].tolist()
    [4, 4, 4, 4]
    """
    progress = progress or silent()
    held = np.array([c.code for c in model.classes])
    if not {HIGH_PLANTS, BUILDING} <= set(held.tolist()) or len(model.radii) < 2:
        raise MossError(f"{model.name} knows no buildings and plants.", "Take another model.")
    if not these.rows.size:
        return np.zeros(0, np.uint8), np.zeros(0, np.float32)
    values = columns_of(these, model, progress.part(0.0, 0.7))
    progress.at(0.7, "Weighing the classes")
    shares = calmed(these.flat, shares_of(model, values), model.radii[1])
    best = shares.argmax(axis=1)
    codes = held[best].astype(np.uint8)
    plants = bands_of(these.above, how)
    codes = np.where(codes == HIGH_PLANTS, plants, codes)
    small = _small(these, codes == BUILDING, how)
    small |= _short(these, codes == WIRE, how)
    codes = np.where(small, plants, codes).astype(np.uint8)
    codes[_under_roofs(these.flat, codes == BUILDING, how)] = BUILDING
    return codes, shares.max(axis=1)


def _short(these: Standing, wire: np.ndarray, how: ObjectSet) -> np.ndarray:
    """Points of what is no wire: it is shorter than one, or hangs lower."""
    rows = np.flatnonzero(wire)
    result = np.zeros(len(wire), bool)
    if rows.size:
        part = these.flat.part(rows)
        joined = segments_of(part, SegmentSet("distance", max(8.0 * how.spacing, 4.0), least=1))
        long = np.zeros(int(joined.max()) + 1)
        for number in range(1, len(long)):
            mine = joined == number
            low = np.median(np.nan_to_num(these.above[rows[mine]], nan=0.0)) < how.wire_height
            long[number] = 0.0 if low else np.hypot(np.ptp(part.x[mine]), np.ptp(part.y[mine]))
        result[rows] = (long < how.wire_length)[joined]
    return result


def _under_roofs(flat: Cloud, building: np.ndarray, how: ObjectSet) -> np.ndarray:
    """Points below one of a building in the same small cell: walls under eaves are its own."""
    frame = frame_about(flat, max(how.spacing, 0.25))
    cells = cells_of(flat, frame)
    highest = np.full(frame.rows * frame.cols, -np.inf)
    np.maximum.at(highest, cells[building], flat.z[building])
    return np.asarray(flat.z <= highest[cells])


def _small(these: Standing, building: np.ndarray, how: ObjectSet) -> np.ndarray:
    """Points of what is no building: it covers less than the least area, or is not as high as eaves."""
    rows = np.flatnonzero(building)
    result = np.zeros(len(building), bool)
    if rows.size:
        part = these.flat.part(rows)
        joined = segments_of(part, SegmentSet("distance", 3.0 * how.spacing, least=1))
        covered = areas_of(part, joined, max(1.5 * how.spacing, 0.5))
        highest = np.full(len(covered), -np.inf)
        np.maximum.at(highest, joined, np.nan_to_num(these.above[rows], nan=-np.inf))
        result[rows] = ((covered < how.roof) | (highest < how.eaves))[joined]
    return result


def own_class(these: Standing, model: PointModel, least: int, progress: Progress | None = None) -> np.ndarray:
    """How much of a class that was taught each point is.

    The share that the forest or the distributions give it, as a mean over the points within the first radius;
    0 where a point lies in no measure's range of the examples, and in parts of fewer points than the least.

    Parameters
    ----------
    these
        k points.
    model
        What was learned: the first of its classes is the one.
    least
        Fewest points of a part that hangs together.
    progress
        Told how far it is.

    Returns
    -------
    np.ndarray
        Shares (float32, k); a point belongs to the class from 0.5 on.

    Raises
    ------
    MossError
        For a model of other measures than the points have.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.model.point_model import REST, PointModel
    >>> from moss_step.science.points.learning import learned, reach_of
    >>> from moss_step.science.points.objects import Standing, own_class
    >>> from moss_step.science.sample import scattered
    >>> values, codes = np.array([[1.0], [1.2], [9.0], [8.0]]), np.array([0, 0, 1, 1])
    >>> low, high = reach_of(values[:2])
    >>> arrays = {**learned(values, codes, "gaussian"), "low": low, "high": high}
    >>> model = PointModel("low", "gaussian", (REST, REST), ("height_above",), (1.0,), arrays)
    >>> own_class(Standing(scattered(2), np.full(4, 1.1), np.arange(4), {}), model, 1).tolist()
    [1.0, 1.0, 1.0, 1.0]
    """
    progress = progress or silent()
    if not these.rows.size:
        return np.zeros(0, np.float32)
    values = columns_of(these, model, progress.part(0.0, 0.7))
    progress.at(0.7, "Weighing the class")
    first = np.where(within_reach(model, values), shares_of(model, values)[:, 0], 0.0)
    radius = model.radii[0] if model.radii else 1.0
    share = calmed(these.flat, first[:, None], radius)[:, 0]
    rows = np.flatnonzero(share >= DOUBT[0])
    if rows.size:
        joined = segments_of(these.flat.part(rows), SegmentSet("distance", 1.5 * radius, least=least))
        share[rows[joined == 0]] = 0.0
    return np.asarray(share, np.float32)


def has_echoes(cloud: Cloud) -> bool:
    """Whether points know their returns, and some pulse had several.

    Parameters
    ----------
    cloud
        n points.

    Returns
    -------
    bool
        True where echoes can tell classes apart.

    Examples
    --------
    >>> from moss_step.science.points.objects import has_echoes
    >>> from moss_step.science.sample import scattered
    >>> has_echoes(scattered(2))
    False
    """
    held = cloud.attributes
    return "return_number" in held and int(np.max(held.get("number_of_returns", 0), initial=0)) > 1
