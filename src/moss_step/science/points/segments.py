"""Segments: points that belong together, along a smooth surface or by their distance."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Literal

import numpy as np

from moss_step.model.cloud import Cloud
from moss_step.model.progress import Progress, silent
from moss_step.science.points.cells import cells_of
from moss_step.science.points.kernels.grow import cells_of_points, grow
from moss_step.science.points.measures import FORMS, forms_of
from moss_step.science.points.near import Near, frame_about, near_of

Method = Literal["smooth", "distance"]
SEGMENT = "segment"
"""The attribute that numbers the segments of points; 0 is none."""
_AT_ONCE = 50_000


@dataclass(frozen=True)
class SegmentSet:
    """How points are brought together: within so many metres; along a surface whose direction turns by no
    more than some degrees from point to point, from points that lie no further from their plane than so many
    metres (standard deviation); at least so many in a segment; and metres that the whole range of each band
    counts.
    """

    method: Method = "smooth"
    within: float = 1.5
    angle: float = 12.0
    residual: float = 0.15
    least: int = 10
    weights: Mapping[str, float] = field(default_factory=dict)


def segments_of(
    flat: Cloud,
    how: SegmentSet,
    bands: Mapping[str, np.ndarray] | None = None,
    progress: Progress | None = None,
) -> np.ndarray:
    """Bring points together into segments.

    ``smooth`` grows regions over surfaces of little bend (Rabbani, van den Heuvel & Vosselman 2006), with
    points within a radius in place of a number of nearest ones: from the point that lies best in its plane
    on, each point takes those around it whose normals differ little; those that lie badly in their plane
    belong to the region, and carry it no further. ``distance`` brings together what is connected by steps
    within the radius. With weights, differences of bands count as metres beside those of places.

    Parameters
    ----------
    flat
        n points in metres.
    how
        Radius, bounds and weights.
    bands
        Values of the points (n) for each weight.
    progress
        Told how far it is.

    Returns
    -------
    np.ndarray
        Number of each point's segment (uint32, n), the largest first from 1; 0 for points of none.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.model.cloud import Cloud
    >>> from moss_step.science.points.segments import SegmentSet, segments_of
    >>> x = np.array([0.0, 1.0, 2.0, 9.0, 10.0])
    >>> row = Cloud(x, np.zeros(5), np.zeros(5))
    >>> segments_of(row, SegmentSet("distance", within=1.2, least=2)).tolist()
    [1, 1, 1, 2, 2]
    """
    progress = progress or silent()
    progress.at(0.0, "Looking at the points around each")
    smooth = how.method == "smooth"
    if smooth:
        found, near = forms_of(flat, how.within)
        normals = np.ascontiguousarray(found[:, FORMS.index("normal_x") : FORMS.index("normal_z") + 1])
        off = np.nan_to_num(found[:, FORMS.index("thickness")], nan=np.inf)
        seeds, firm = np.argsort(off, kind="stable"), off <= how.residual
    else:
        near = near_of(flat, how.within * (1.0 + 1e-9))
        normals, firm = np.zeros((len(near.x), 3), np.float32), np.ones(len(near.x), bool)
        seeds = np.arange(len(near.x))
    labels = np.zeros(len(near.x), np.int64)
    cosine = float(np.cos(np.radians(how.angle))) if smooth else 0.0
    limits = (how.within * (1.0 + 1e-9), cosine)
    cells = np.empty(len(near.x), np.int64)
    cells_of_points(near.starts, cells)
    places, layout = (near.x, near.y, near.z), (near.starts, near.shape, cells)
    surface = (_scaled(near, how.weights, bands or {}), normals, firm)
    at, state, waiting = 0, np.zeros(3, np.int64), np.empty(len(near.x), np.int64)
    while at < len(seeds):
        progress.at(0.4 + 0.5 * at / len(seeds), "Growing segments")
        at = grow(places, layout, surface, limits, seeds, at, _AT_ONCE, state, waiting, labels)
    result = np.zeros(len(flat), np.uint32)
    result[near.order] = _by_size(labels, int(state[0]), how.least)
    return result


def _scaled(near: Near, weights: Mapping[str, float], bands: Mapping[str, np.ndarray]) -> np.ndarray:
    """Bands of the points laid out, in metres (k, bands)."""
    columns = []
    for name, weight in weights.items():
        values = np.asarray(bands[name], np.float64)[near.order]
        span = float(np.ptp(values)) if len(values) else 0.0
        if weight > 0.0 and span > 0.0:
            columns.append((values - values.min()) / span * weight)
    return np.column_stack(columns) if columns else np.empty((len(near.x), 0))


def _by_size(labels: np.ndarray, count: int, least: int) -> np.ndarray:
    """Numbers from 1 by falling size; 0 for what is smaller than the least. Of equal ones the first found."""
    sizes = np.bincount(labels, minlength=count + 1)
    sizes[0] = 0
    order = np.argsort(-sizes, kind="stable")
    kept = order[sizes[order] >= max(least, 1)]
    numbers = np.zeros(count + 1, np.uint32)
    numbers[kept] = np.arange(1, len(kept) + 1)
    return np.asarray(numbers[labels])


def areas_of(flat: Cloud, numbers: np.ndarray, side: float) -> np.ndarray:
    """Ground that segments cover, by cells.

    Parameters
    ----------
    flat
        n points in metres.
    numbers
        Segment of each (n).
    side
        Side of the cells, in metres.

    Returns
    -------
    np.ndarray
        Square metres, by number from 0.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.points.segments import areas_of
    >>> from moss_step.science.sample import scattered
    >>> areas_of(scattered(4), np.ones(16, int), 1.0).tolist()
    [0.0, 16.0]
    """
    cells = cells_of(flat, frame_about(flat, side))
    pairs = np.unique(np.column_stack([numbers.astype(np.int64), cells]), axis=0)
    return np.bincount(pairs[:, 0], minlength=int(numbers.max(initial=0)) + 1) * side * side
