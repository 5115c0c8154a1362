"""Small files of the kinds that steps take, under the names that the examples of the help use."""

from __future__ import annotations

from dataclasses import replace
from itertools import islice
from pathlib import Path

import numpy as np
import shapely

from moss_step.demo import DATA
from moss_step.demo.sounder import Sounder
from moss_step.formats.las_write import write_cloud
from moss_step.formats.raster import read_surface
from moss_step.formats.raster_write import write_surface
from moss_step.formats.vector import read_shapes, write_shapes
from moss_step.model.cloud import Cloud
from moss_step.model.frame import Frame
from moss_step.model.progress import silent
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.science.relief.profile import values_at
from moss_step.steps.catalogue import step_kind
from moss_step.study.direct import do_step
from moss_step.study.hand_on import hand_on

_SIDE, _CELL = 250, 4
"""Rows and columns of the grids, and cells of the demo's ground along one of theirs."""
_MADE = (
    ("slope", {"dem": "ground.tif"}, "slope.tif"),
    ("slope", {"dem": "later.tif"}, "slope_later.tif"),
    ("classify", {"surface": "slope.tif", "rules": "fao_slope"}, "classes.tif"),
    ("classify", {"surface": "slope_later.tif", "rules": "fao_slope"}, "later_classes.tif"),
    ("viewshed", {"dem": "ground.tif", "observers": "413000,5871000"}, "seen.tif"),
    ("viewshed", {"dem": "later.tif", "observers": "413000,5871000"}, "seen_later.tif"),
    ("drain_height", {"dem": "ground.tif"}, "above_water.tif"),
    (
        "train_class",
        {"cloud": "cloud.laz", "samples": "walls.gpkg", "name": "Dry-stone wall", "radii": "5,10,20"},
        "walls.class.json",
    ),
    ("triangulate", {"points": "checks.gpkg", "column": "z", "unit": "metre"}, "surface.ply"),
)


def coarse_ground(by: int) -> Surface:
    """The demo's ground on cells so many times as wide and high: their means."""
    whole = read_surface(DATA / "harrow_ground.tif")[0]
    f = whole.frame
    rows, cols = f.rows // by, f.cols // by
    values = whole.values[: rows * by, : cols * by].reshape(rows, by, cols, by).mean(axis=(1, 3))
    frame = Frame(rows, cols, f.x0, f.y0, f.dx * by, f.dy * by, f.crs)
    return Surface(values.astype(np.float32), frame, whole.unit, "elevation")


def write_samples(folder: Path) -> None:
    """Write them all into a folder: grounds of 250 x 250 cells of 8 m, and what is made from these."""
    whole, coarse = read_surface(DATA / "harrow_ground.tif")[0], coarse_ground(_CELL)
    frame = coarse.frame
    rows, cols = np.mgrid[0:_SIDE, 0:_SIDE]
    mound = 12.0 * np.exp(-((rows - 120) ** 2 + (cols - 130) ** 2) / 400.0)
    for name, values in (("ground", coarse.values), ("later", coarse.values + mound)):
        ground = replace(coarse, values=values.astype(np.float32))
        write_surface(folder / f"{name}.tif", ground, name.capitalize())
    write_cloud(folder / "cloud.laz", thinned(frame, whole))
    write_shapes(folder / "walls.gpkg", samples_of_walls(frame))
    bogs = read_shapes(DATA / "harrow_bogs.gpkg")
    columns = {**bogs.columns, "area_ha": shapely.area(bogs.geometry) / 1e4}
    write_shapes(folder / "areas.gpkg", Shapes(bogs.geometry, columns, bogs.crs))
    write_shapes(folder / "checks.gpkg", check_points(frame, whole))
    some = [line for made in islice(Sounder().sentences(), 200) for line in made]
    (folder / "run.nmea").write_text("".join(some), newline="")
    (folder / "soundings.csv").write_bytes((DATA / "harrow_soundings.csv").read_bytes())
    for kind, given, target in _MADE:
        step = step_kind(kind)
        paths = {n: str(folder / v) if step.input(n) and "." in v else v for n, v in given.items()}
        outcome, name = do_step(step, paths, silent())[""]
        hand_on(outcome, name, folder / target)


def samples_of_walls(frame: Frame) -> Shapes:
    """Two places that are said to be walls, and two that are not."""
    corners = [(frame.x0 + 800.0 + a, frame.y0 - 1000.0 + b) for a in (20.0, 120.0) for b in (20.0, 120.0)]
    areas = np.array([shapely.box(x, y, x + 60.0, y + 60.0) for x, y in corners], object)
    return Shapes(areas, {"example": np.array(["yes", "no", "yes", "no"], object)}, frame.crs)


def check_points(frame: Frame, whole: Surface) -> Shapes:
    """Forty places on the ground with heights, as if they were measured to some centimetres."""
    rng = np.random.default_rng(12)
    x = rng.uniform(frame.x0 + 700.0, frame.x0 + 1100.0, 40)
    y = rng.uniform(frame.y0 - 1100.0, frame.y0 - 700.0, 40)
    z = np.round(values_at(whole, x, y) + rng.normal(0.0, 0.05, 40), 2)
    cover = np.where(np.arange(40) % 3 == 0, "heath", "grass").astype(object)
    points = np.asarray(shapely.points(x, y))
    return Shapes(points, {"z": z, "cover": cover}, frame.crs, {"z": whole.unit.symbol})


def thinned(frame: Frame, whole: Surface) -> Cloud:
    """A cloud of some thousand points over a part of the ground: ground, and bushes on every tenth of it."""
    rng = np.random.default_rng(11)
    x = rng.uniform(frame.x0 + 800.0, frame.x0 + 1000.0, 6000)
    y = rng.uniform(frame.y0 - 1000.0, frame.y0 - 800.0, 6000)
    bush = np.arange(6000) % 10 == 0
    z = values_at(whole, x, y) + np.where(bush, rng.uniform(1.0, 4.0, 6000), rng.normal(0.0, 0.03, 6000))
    attributes: dict[str, np.ndarray] = {
        "classification": np.where(bush, 4, 2).astype(np.uint8),
        "intensity": np.where(bush, 9000, 16000).astype(np.uint16),
        "return_number": np.ones(6000, np.uint8),
        "number_of_returns": np.ones(6000, np.uint8),
    }
    return Cloud(x, y, z, attributes, whole.frame.crs, whole.unit)
