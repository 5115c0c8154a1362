"""Earth that was moved at Harrow Moss, made by code from one seed: the spring slip as two grids with a known
shift between them, a heap of peat flown from near, and the outline of the pad for the new barn.
"""

from __future__ import annotations

import json
from datetime import date
from pathlib import Path

import numpy as np
import shapely

from moss_step.demo.lidar import SIDE, SOUTH, WEST, before_slip, slip_volumes
from moss_step.formats.las_write import write_cloud
from moss_step.formats.raster_write import write_surface
from moss_step.formats.vector import write_shapes
from moss_step.formats.whole import write_text
from moss_step.model.cloud import Cloud
from moss_step.model.frame import Frame
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.science.relief.profile import values_at

SEED = 31
SHIFT = (0.8, -0.5, 0.12)
"""Metres to the east, the north and up by which the survey after the slip lies beside the one before."""
ERROR = 0.04
"""Metres of standard error of a height in both grids."""
HEAP = (413_101.0, 5_870_899.0, 16.0, 11.0, 4.5, 0.5)
"""Middle of the heap, half axes, height, and turn: a cap of a paraboloid on the slope."""
HEAP_VOLUME = float(np.pi / 2.0 * HEAP[2] * HEAP[3] * HEAP[4])
_AROUND, _DENSITY, _HEAP_NOISE = 30.0, 12.0, 0.02
_BARN = (413_241.0, 5_871_099.0, 30.0, 18.0, 0.4)
"""Middle, length, width and turn of the pad for the barn."""
_CELL = 1.0
_MADE = date(2026, 11, 28)
"""The day that the cloud's file names: the same whenever it is made again."""


def slip_grids(ground: Surface) -> tuple[Surface, Surface]:
    """The ground around the slip before and after it, in cells of 1 m with errors of their own; the later one
    is shifted.
    """
    rng, cells = np.random.default_rng(SEED), round(SIDE / _CELL)
    frame = Frame(cells, cells, WEST, SOUTH + SIDE, _CELL, _CELL, ground.frame.crs)
    x, y = frame.middles(np.ones(frame.shape, bool))
    east, north, up = SHIFT
    made = []
    for surface, dx, dy, dz in ((before_slip(ground), 0.0, 0.0, 0.0), (ground, east, north, up)):
        z = values_at(surface, x - dx, y - dy).reshape(frame.shape) + dz
        z = z + rng.normal(0.0, ERROR, frame.shape)
        made.append(Surface(np.round(z, 3).astype(np.float32), frame, ground.unit))
    return made[0], made[1]


def slip_outline(ground: Surface) -> Shapes:
    """An outline around scar and debris, some metres away."""
    corners = [(262, 60), (264, 96), (274, 106), (296, 102), (308, 86), (314, 56), (302, 38), (280, 42)]
    area = shapely.Polygon([(WEST + x, SOUTH + y) for x, y in corners])
    name = np.array(["Spring slip"], object)
    return Shapes(np.array([area], object), {"name": name}, ground.frame.crs)


def heap_cloud(ground: Surface) -> Cloud:
    """Points of a heap of peat and the slope around it, flown from near."""
    rng = np.random.default_rng(SEED + 1)
    count = int((2 * _AROUND) ** 2 * _DENSITY)
    u, v = (rng.uniform(-_AROUND, _AROUND, count) for _ in range(2))
    x, y = HEAP[0] + u, HEAP[1] + v
    z = values_at(ground, x, y) + heap_over(u, v) + rng.normal(0.0, _HEAP_NOISE, count)
    held: dict[str, np.ndarray] = {
        "classification": np.ones(count, np.uint8),
        "gps_time": 5000.0 + np.arange(count) / 1e4,
    }
    return Cloud(np.round(x, 2), np.round(y, 2), np.round(z, 2), held, ground.frame.crs, ground.unit)


def heap_over(u: np.ndarray, v: np.ndarray) -> np.ndarray:
    """Height of the heap over the slope, at metres east and north of its middle."""
    _, _, a, b, high, turn = HEAP
    along, across = u * np.cos(turn) + v * np.sin(turn), v * np.cos(turn) - u * np.sin(turn)
    return np.asarray(high * np.maximum(1.0 - (along / a) ** 2 - (across / b) ** 2, 0.0))


def barn_outline(ground: Surface) -> Shapes:
    """The outline of the pad for the new barn."""
    x, y, long, wide, turn = _BARN
    corners = np.array([(-1, -1), (1, -1), (1, 1), (-1, 1)]) * (long / 2.0, wide / 2.0)
    c, s = np.cos(turn), np.sin(turn)
    places = corners @ np.array([[c, s], [-s, c]]) + (x, y)
    name = np.array(["New barn"], object)
    return Shapes(np.array([shapely.Polygon(np.round(places, 2))], object), {"name": name}, ground.frame.crs)


def write_earth(folder: Path, ground: Surface) -> list[Path]:
    """Write grids, cloud, outlines and what is true of them."""
    before, after = slip_grids(ground)
    paths = [folder / f"harrow_{n}" for n in (
        "slip_before.tif", "slip_after.tif", "slip.gpkg", "heap.laz", "barn.gpkg", "earth_truth.json",
    )]  # fmt: skip
    write_surface(paths[0], before, "Slip before")
    write_surface(paths[1], after, "Slip after")
    write_shapes(paths[2], slip_outline(ground), "slip")
    write_cloud(paths[3], heap_cloud(ground), made=_MADE)
    write_shapes(paths[4], barn_outline(ground), "barn")
    away, below = slip_volumes()
    truth = {
        "slipped_away_m3": round(away, 3), "came_below_m3": round(below, 3), "shift_m": list(SHIFT),
        "error_m": ERROR, "heap_m3": round(HEAP_VOLUME, 3),
    }  # fmt: skip
    write_text(paths[5], json.dumps(truth, indent=1) + "\n")
    return paths
