"""What was measured where: places with values, from points, lines and outlines of a known value."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import shapely

from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.nearest import meant
from moss_step.model.shapes import Shapes

USUAL_COLUMNS = ("z", "height", "elevation", "depth", "h", "value", "name")
_SAME = 1e-9
"""Part of the extent within which two places are one."""


@dataclass(frozen=True, eq=False)
class Measured:
    """n places (in units of their reference system) with a value each."""

    x: np.ndarray
    y: np.ndarray
    values: np.ndarray
    noise: np.ndarray | None = None
    """Share of the error of measurement that each has (n): 0 for what is known, such as a shore, 1/k for a
    mean of k; 1 for all where it is left out.
    """
    lost: int = 0
    """Places that had no number."""
    doubled: int = 0
    """Places that stood where another stood."""
    differing: int = 0
    """Those of them whose values differed: the mean counts."""

    def __len__(self) -> int:
        return len(self.x)

    @property
    def noises(self) -> np.ndarray:
        """Share of the error of measurement that each has (n)."""
        return np.ones(len(self)) if self.noise is None else self.noise

    def part(self, which: np.ndarray) -> Measured:
        """Some of the places."""
        return Measured(
            self.x[which], self.y[which], self.values[which], self.noises[which], self.lost, self.doubled,
            self.differing,
        )  # fmt: skip


def column_of(shapes: Shapes, name: str) -> np.ndarray:
    """A column by its name.

    Parameters
    ----------
    shapes
        Shapes with columns.
    name
        The column's name.

    Returns
    -------
    np.ndarray
        Its values.

    Raises
    ------
    AskedWronglyError
        When there is none.

    Examples
    --------
    >>> from moss_step.science.interpolate.places import column_of
    >>> from moss_step.science.sample import box
    >>> column_of(box(0, 0, 1, 1), "name").tolist()
    ['Box']
    """
    if name not in shapes.columns:
        raise AskedWronglyError(
            f"The {shapes.kind} have no column '{name}'.",
            f"{meant(name, shapes.columns)} There are: {', '.join(shapes.columns) or 'none'}.",
        )
    return np.asarray(shapes.columns[name])


def numbers_of(shapes: Shapes, column: str | None) -> np.ndarray:
    """Values of shapes: of a column, or of the first of ``USUAL_COLUMNS`` that there is, or of the points'
    own heights.

    Parameters
    ----------
    shapes
        Shapes with columns, or points with heights.
    column
        The column's name; left out, one is looked for.

    Returns
    -------
    np.ndarray
        Numbers (n, float64), NaN for what is none; text may have a decimal comma.

    Raises
    ------
    AskedWronglyError
        When there is no such column.

    Examples
    --------
    >>> import numpy as np, shapely
    >>> from moss_step.model.shapes import Shapes
    >>> from moss_step.science.interpolate.places import numbers_of
    >>> numbers_of(Shapes(shapely.points([0, 1], [0, 0]), {"depth": np.array(["1,5", "?"])}), None).tolist()
    [1.5, nan]
    """
    if column is None and shapes.kind == "points" and len(shapes) and shapely.has_z(shapes.geometry).all():
        return np.asarray(shapely.get_z(shapely.centroid(shapes.geometry)) if _many(shapes) else
                          shapely.get_z(shapes.geometry), np.float64)  # fmt: skip
    known = {c.lower(): c for c in shapes.columns}
    name = column or next((known[c] for c in USUAL_COLUMNS if c in known), None)
    if name is None:
        raise AskedWronglyError(
            f"The {shapes.kind} have no column of heights or values.",
            f"Name it: {', '.join(shapes.columns) or 'there is none'}.",
        )
    held = column_of(shapes, name)
    try:
        return held.astype(np.float64)
    except (TypeError, ValueError):
        return np.array([_number(v) for v in held], np.float64)


def _many(shapes: Shapes) -> bool:
    return bool((shapely.get_type_id(shapes.geometry) > 3).any())


def _number(text: object) -> float:
    try:
        return float(str(text).strip().replace(",", "."))
    except ValueError:
        return float("nan")


def measured(shapes: Shapes, column: str | None = None) -> Measured:
    """Places with values: each point, and each vertex of lines, with that of its row or its own height.

    Parameters
    ----------
    shapes
        Points or lines.
    column
        The column that holds the values; left out, one is looked for; lines with heights need none.

    Returns
    -------
    Measured
        Places with a number; how many had none.

    Raises
    ------
    AskedWronglyError
        For areas, or no such column.
    MossError
        When no place has a number.

    Examples
    --------
    >>> import numpy as np, shapely
    >>> from moss_step.model.shapes import Shapes
    >>> from moss_step.science.interpolate.places import measured
    >>> line = np.array([shapely.LineString([(0, 0), (4, 0)])], object)
    >>> measured(Shapes(line, {"elevation": np.array([7.0])})).values.tolist()
    [7.0, 7.0]
    """
    if shapes.kind == "areas":
        raise AskedWronglyError(
            "Areas are no places where something was measured.", "Take points, or lines with heights."
        )
    own = shapes.kind != "points" and len(shapes) > 0 and bool(shapely.has_z(shapes.geometry).all())
    corners, owner = shapely.get_coordinates(shapes.geometry, include_z=own, return_index=True)
    values = corners[:, 2] if own and column is None else numbers_of(shapes, column)[owner]
    known = np.isfinite(values) & np.isfinite(corners[:, :2]).all(axis=1)
    if not known.any():
        raise MossError("No place has a number.", "Choose another column.")
    return Measured(
        corners[known, 0].copy(),
        corners[known, 1].copy(),
        values[known].astype(np.float64),
        lost=int((~known).sum()),
    )


def joined(parts: Sequence[Measured]) -> Measured:
    """Places of several as one.

    Parameters
    ----------
    parts
        Places with values.

    Returns
    -------
    Measured
        All of them.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.interpolate.places import Measured, joined
    >>> one = Measured(np.zeros(1), np.zeros(1), np.ones(1))
    >>> len(joined([one, one]))
    2
    """
    x, y, v, noise = (np.concatenate([getattr(p, n) for p in parts]) for n in ("x", "y", "values", "noises"))
    return Measured(x, y, v, noise, sum(p.lost for p in parts))


def one_a_place(held: Measured) -> Measured:
    """Places without doubles: where several stand in one place, the mean of their values counts.

    Parameters
    ----------
    held
        Places with values.

    Returns
    -------
    Measured
        Each place once, in the order of the first; how many stood where another stood.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.interpolate.places import Measured, one_a_place
    >>> made = one_a_place(Measured(np.array([1.0, 1.0, 2.0]), np.zeros(3), np.array([4.0, 6.0, 9.0])))
    >>> made.values.tolist(), made.doubled, made.differing
    ([5.0, 9.0], 1, 1)
    """
    step = max(float(np.ptp(held.x)), float(np.ptp(held.y)), 1e-300) * _SAME
    keys = np.column_stack([np.rint((held.x - held.x[0]) / step), np.rint((held.y - held.y[0]) / step)])
    _, first, group = np.unique(keys, axis=0, return_index=True, return_inverse=True)
    if len(first) == len(held):
        return held
    group = group.ravel()
    count = np.bincount(group)
    # What is known outweighs what was measured in its place.
    known = np.bincount(group, held.noises == 0.0)
    weight = np.where((known[group] > 0) & (held.noises > 0), 0.0, 1.0)
    total = np.bincount(group, weight)
    mean = np.bincount(group, held.values * weight) / total
    noise = np.bincount(group, held.noises * weight) / total**2
    low, high = np.full(len(first), np.inf), np.full(len(first), -np.inf)
    np.minimum.at(low, group, held.values)
    np.maximum.at(high, group, held.values)
    order = np.argsort(first)
    kept, twice = first[order], int(len(held) - len(first))
    differing = int(((high > low) & (count > 1)).sum())
    return Measured(held.x[kept], held.y[kept], mean[order], noise[order], held.lost, twice, differing)


def along_rims(areas: Shapes, value: float, spacing: float) -> Measured:
    """Places along the outlines of areas, each with one known value: a shore at depth 0.

    Parameters
    ----------
    areas
        Areas.
    value
        What is known along their outlines.
    spacing
        The most from one place to the next, in units of the reference system.

    Returns
    -------
    Measured
        Places: every corner, and others between those that are far apart.

    Raises
    ------
    AskedWronglyError
        For shapes that are no areas.

    Examples
    --------
    >>> from moss_step.science.interpolate.places import along_rims
    >>> from moss_step.science.sample import box
    >>> len(along_rims(box(0, 0, 4, 4), 0.0, 2.0))
    8
    """
    if areas.kind != "areas":
        raise AskedWronglyError(f"An outline is an area, and these are {areas.kind}.", "Choose areas.")
    rings = shapely.get_rings(shapely.get_parts(shapely.segmentize(areas.geometry, spacing)))
    corners = np.concatenate([shapely.get_coordinates(r)[:-1] for r in rings])
    known = np.zeros(len(corners))
    return Measured(corners[:, 0].copy(), corners[:, 1].copy(), np.full(len(corners), float(value)), known)


def spacing_of(held: Measured) -> float:
    """How far places lie from their nearest neighbour, in the middle of all.

    Parameters
    ----------
    held
        Places, no two in one.

    Returns
    -------
    float
        The median distance, in units of the reference system; 1 for a single place.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.interpolate.places import Measured, spacing_of
    >>> spacing_of(Measured(np.array([0.0, 3.0, 6.0]), np.zeros(3), np.zeros(3)))
    3.0
    """
    from scipy.spatial import cKDTree

    if len(held) < 2:
        return 1.0
    places = np.column_stack([held.x, held.y])
    return float(np.median(cKDTree(places).query(places, k=2, workers=-1)[0][:, 1]))
