"""Outlines of numbered cells as areas."""

from __future__ import annotations

import numpy as np
import shapely
from rasterio.features import shapes as trace
from shapely.geometry import shape

from moss_step.model.frame import Frame
from moss_step.science.regrid import affine


def areas_of(numbered: np.ndarray, frame: Frame, count: int) -> np.ndarray:
    """Outlines of the cells of each number from 1 (``count`` geometries); an empty area for a number without cells.

    Parts that touch at a corner only are parts of their own, so that every area is valid (OGC Simple Features 1.2.1).
    """
    parts: list[list[shapely.Geometry]] = [[] for _ in range(count)]
    for geometry, k in trace(numbered, mask=numbered > 0, connectivity=4, transform=affine(frame)):
        parts[int(k) - 1].append(shape(geometry))
    return np.array([p[0] if len(p) == 1 else shapely.multipolygons(p) for p in parts], object)
