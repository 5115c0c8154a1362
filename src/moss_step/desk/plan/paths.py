"""Painter's paths of outlines."""

from __future__ import annotations

from collections.abc import Callable
from functools import lru_cache

import numpy as np
import shapely
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QPainterPath, QPolygonF

from moss_step.scene.detail import Outlines

_FEW_POINTS = 5_000


def path_of_parts(outlines: Outlines, parts: np.ndarray) -> QPainterPath:
    """Some parts (mask) as one path; where areas lie over one another they fill as one."""
    numbers = np.flatnonzero(parts)
    counts = np.diff(outlines.starts)[numbers]
    begins = np.cumsum(counts) - counts
    xy = outlines.xy[np.repeat(outlines.starts[numbers] - begins, counts) + np.arange(counts.sum())]
    path = QPainterPath()
    if len(xy) > _FEW_POINTS:
        joined = np.ones(len(xy), np.int32)
        joined[begins + counts - 1] = 0
        path = _packed(xy, joined)
    else:
        for k in numbers:
            path.addPath(path_of_part(outlines, int(k)))
    path.setFillRule(Qt.FillRule.WindingFill)
    return path


def path_of_part(outlines: Outlines, part: int) -> QPainterPath:
    """One part as a path."""
    path = QPainterPath()
    points = outlines.xy[outlines.starts[part] : outlines.starts[part + 1]]
    path.addPolygon(QPolygonF([QPointF(x, y) for x, y in points.tolist()]))
    return path


def path_of(geometry: shapely.Geometry) -> QPainterPath:
    """Make a painter path of outlines and lines; a point becomes a short stroke."""
    path = QPainterPath()
    for part in shapely.get_parts(geometry):
        lines = [part.exterior, *part.interiors] if part.geom_type == "Polygon" else [part]
        for line in lines:
            if line.geom_type == "Point":
                path.moveTo(line.x, line.y)
                path.lineTo(line.x, line.y)
            if line.geom_type not in ("LineString", "LinearRing"):
                continue
            xy = shapely.get_coordinates(line)
            path.moveTo(xy[0, 0], xy[0, 1])
            for x, y in xy[1:]:
                path.lineTo(x, y)
    return path


@lru_cache(maxsize=1)
def packer() -> Callable[..., QPainterPath]:
    """What makes a path of coordinates at once. It is slow to load: not for the first time when a frame is
    drawn.
    """
    from pyqtgraph.functions import arrayToQPath

    result: Callable[..., QPainterPath] = arrayToQPath
    return result


def _packed(xy: np.ndarray, joined: np.ndarray) -> QPainterPath:
    return packer()(
        np.ascontiguousarray(xy[:, 0]), np.ascontiguousarray(xy[:, 1]), connect=joined, finiteCheck=False
    )
