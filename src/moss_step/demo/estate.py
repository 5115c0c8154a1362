"""Harrow Moss: an invented upland estate on a 2 m grid, with boundary, bogs, named places and true values."""

from __future__ import annotations

import json
import math
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import shapely
from rasterio.features import shapes as outlines
from scipy import ndimage
from shapely.geometry import Point, Polygon, shape

from moss_step.demo.landscape import Pace, evolve, noise, refine
from moss_step.formats.raster_write import write_surface
from moss_step.formats.vector import write_shapes
from moss_step.formats.whole import write_text
from moss_step.model.frame import Frame
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.units import METRE
from moss_step.science.regrid import affine
from moss_step.study.graph import KeyRow, Shading, Step, Study
from moss_step.study.saving import save_study

SEED = 11
CRS = "EPSG:32628"
WEST, NORTH = 412_000.0, 5_872_000.0
CELLS, CELL = 1000, 2.0
FILES = (
    "harrow_ground.tif",
    "harrow_boundary.gpkg",
    "harrow_bogs.gpkg",
    "harrow_places.gpkg",
    "harrow_truth.json",
    "harrow_moss.moss",
)
_BOG_NAMES = (
    "Long Moss",
    "Hollin Moss",
    "Cotton Flat",
    "Sedge Head",
    "Wether Moss",
    "Black Rigg",
    "Plover Flat",
    "Dun Moss",
    "Quaking Flow",
    "Ling Bed",
    "Tarn Moss",
    "Gale Moss",
)
_PLACES = (
    ("Crag hut", 0.52, 0.83),
    ("East lookout", 0.90, 0.36),
    ("Tarn head", 0.22, 0.44),
    ("Col mast", 0.66, 0.21),
    ("Moss gate", 0.93, 0.83),
    ("Sheepfold", 0.30, 0.66),
)


@dataclass(frozen=True)
class Estate:
    """The whole estate with what is true of it."""

    ground: Surface
    boundary: Shapes
    bogs: Shapes
    places: Shapes
    truth: dict[str, Any]


def make_ground(seed: int = SEED) -> Surface:
    """Evolve the ground from noise: a dissected upland, heights in metres to the centimetre."""
    rng = np.random.default_rng(seed)
    n = 330
    across = np.mgrid[0:n, 0:n] / (n - 1.0)
    z = 395.0 + 90.0 * (1.0 - across[0]) + 50.0 * across[1]
    for height, start in ((75.0, 4), (30.0, 9), (9.0, 24), (1.5, n)):
        z += height * noise(rng, (n, n), start)
    outlet = np.zeros((n, n), bool)
    outlet[-1, :] = outlet[:, 0] = True
    z[outlet] = 300.0
    z = evolve(z, outlet, np.full(z.shape, 3e-4), Pace(8.0, 66, 1500.0, 2), 4.5e-5, 1.2e-2)[12:278, 42:308]
    for pace, rough in ((Pace(4.0, 8, 400.0, 2), 0.5), (Pace(2.0, 5, 400.0, 4), 0.25)):
        z = refine(z)
        z = z + rough * noise(rng, z.shape, z.shape[0])
        rim = np.ones(z.shape, bool)
        rim[1:-1, 1:-1] = False
        z = evolve(z, rim, np.zeros(z.shape), pace, 4e-5, 4e-3)
    z = z[32 : 32 + CELLS, 32 : 32 + CELLS]
    frame = Frame(CELLS, CELLS, WEST, NORTH, CELL, CELL, CRS)
    return Surface((np.round(z * 100.0) / 100.0).astype(np.float32), frame, METRE)


def make_boundary() -> Shapes:
    """The estate's boundary: a closed line of 180 corners around the middle of the grid."""
    side = CELLS * CELL
    corners = []
    for k in range(180):
        t = 2.0 * math.pi * k / 180.0
        r = side * (
            0.40 + 0.035 * math.cos(3.0 * t + 0.4) + 0.02 * math.sin(7.0 * t) + 0.012 * math.cos(13.0 * t)
        )
        corners.append(
            (round(WEST + side * 0.5 + r * math.cos(t), 1), round(NORTH - side * 0.5 + r * math.sin(t), 1))
        )
    return Shapes(np.array([Polygon(corners)]), {"name": np.array(["Harrow Moss"], object)}, CRS)


def make_bogs(ground: Surface, boundary: Shapes) -> Shapes:
    """Blanket bogs: gentle high ground between the gullies, inside the boundary, 0.4 ha and more, largest
    first.
    """
    calm = ndimage.uniform_filter(ground.values.astype(np.float64), 15)
    rise = np.gradient(calm, CELL)
    above = calm - ndimage.uniform_filter(ground.values.astype(np.float64), 101)
    gentle = (np.hypot(rise[0], rise[1]) < 0.13) & (ground.values > 430.0) & (above > 1.0)
    gentle = ndimage.binary_opening(gentle, iterations=4)
    result = [
        shape(g).buffer(0).simplify(5.0).intersection(boundary.geometry[0])
        for g, v in outlines(gentle.astype(np.uint8), mask=gentle, transform=affine(ground.frame))
        if v
    ]
    parts = [
        p for g in result for p in shapely.get_parts(g) if p.geom_type == "Polygon" and p.area >= 4_000.0
    ]
    parts.sort(key=lambda p: (-p.area, p.bounds))
    parts = [shapely.set_precision(p, 0.1) for p in parts[: len(_BOG_NAMES)]]
    names = np.array(_BOG_NAMES[: len(parts)], object)
    peat = np.array([0.8 + 0.3 * (k % 5) for k in range(len(parts))])
    return Shapes(np.array(parts, object), {"name": names, "peat_depth_m": peat}, CRS)


def make_places(ground: Surface) -> Shapes:
    """Named places: the highest cell, and six more at cell centres."""
    frame = ground.frame
    top = np.unravel_index(int(np.argmax(ground.values)), frame.shape)
    cells = [("Harrow Top", int(top[0]), int(top[1]))]
    cells += [(name, int(v * frame.rows), int(u * frame.cols)) for name, u, v in _PLACES]
    points = [Point(frame.x_of(c), frame.y_of(r)) for _, r, c in cells]
    heights = np.array([round(float(ground.values[r, c]), 2) for _, r, c in cells])
    return Shapes(
        np.array(points, object),
        {"name": np.array([n for n, _, _ in cells], object), "height_m": heights},
        CRS,
    )


def make_estate() -> Estate:
    """Make everything from the seed."""
    ground = make_ground()
    boundary = make_boundary()
    bogs = make_bogs(ground, boundary)
    places = make_places(ground)
    return Estate(ground, boundary, bogs, places, _truth(ground, boundary, bogs, places))


def write_estate(folder: Path) -> list[Path]:
    """Make the estate and write its files and its study in a folder; the same bytes every time."""
    estate = make_estate()
    folder.mkdir(parents=True, exist_ok=True)
    paths = [folder / name for name in FILES]
    ground, boundary, bogs, places, truth, study = paths
    write_surface(ground, estate.ground, "Ground 2 m")
    write_shapes(boundary, estate.boundary, "boundary")
    write_shapes(bogs, estate.bogs, "bogs")
    write_shapes(places, estate.places, "places")
    write_text(truth, json.dumps(estate.truth, indent=1) + "\n")
    save_study(demo_study(folder), study)
    return paths


def demo_study(folder: Path) -> Study:
    """The study that the demo opens: ground, shapes, slope and its classes, aspect and its sectors."""
    from moss_step.model.rules import Rule
    from moss_step.steps.classes import rows_of

    bounds = (0.0, 5.0, 15.0, 30.0, 40.0, None)
    named = (
        ("Level", "#E9E8D8"),
        ("Gentle", "#CAD39B"),
        ("Moderate", "#DCBB62"),
        ("Steep", "#CF7340"),
        ("Very steep", "#86303F"),
    )
    rules = [Rule(bounds[i], bounds[i + 1], i + 1, name, color) for i, (name, color) in enumerate(named)]
    steps = (
        Step(id="ground", kind="open_grid", settings={"source": str(folder / FILES[0])}, name="Ground 2 m"),
        Step(
            id="boundary",
            kind="open_shapes",
            settings={"source": str(folder / FILES[1])},
            name="Estate boundary",
        ),
        Step(id="bogs", kind="open_shapes", settings={"source": str(folder / FILES[2])}, name="Bogs"),
        Step(id="places", kind="open_shapes", settings={"source": str(folder / FILES[3])}, name="Places"),
        Step(id="slope", kind="slope", inputs={"dem": "ground"}, name="Slope"),
        Step(
            id="classes",
            kind="classify",
            inputs={"surface": "slope"},
            settings={"rules": rows_of(rules)},
            name="Slope classes",
        ),
        Step(id="aspect", kind="aspect", inputs={"dem": "ground"}, name="Aspect"),
        Step(
            id="sectors",
            kind="classify",
            inputs={"surface": "aspect"},
            settings={"rules": "aspect_8"},
            name="Facing",
        ),
    )
    key = (KeyRow(step="places"), KeyRow(step="boundary"), KeyRow(step="classes", opacity=0.85))
    return Study(name="Harrow Moss", steps=steps, key=key, shading=Shading(ground="ground"))


def _truth(ground: Surface, boundary: Shapes, bogs: Shapes, places: Shapes) -> dict[str, Any]:
    low, high = float(ground.values.min()), float(ground.values.max())
    return {
        "seed": SEED,
        "crs": CRS,
        "cells": [CELLS, CELLS],
        "cell_m": CELL,
        "area_m2": ground.frame.area,
        "lowest_m": round(low, 2),
        "highest_m": round(high, 2),
        "mean_m": round(float(ground.values.mean(dtype=np.float64)), 4),
        "boundary_area_m2": round(float(boundary.geometry[0].area), 2),
        "bogs": {
            n: round(float(g.area), 2) for n, g in zip(bogs.columns["name"], bogs.geometry, strict=True)
        },
        "places": {
            n: [g.x, g.y, float(h)]
            for n, g, h in zip(
                places.columns["name"], places.geometry, places.columns["height_m"], strict=True
            )
        },
    }
