"""Local steps tile by tile, from file to file, against the same steps in one piece."""

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
import shapely

from moss_step.formats.raster_write import write_surface
from moss_step.formats.vector import write_shapes
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.units import FOOT
from moss_step.study.graph import Step, Study
from tests.grounds import first, holed, in_degrees, metric, relief
from tests.large.held import assert_cells_alike, assert_said_alike, both_ways

ROWS, COLS, TILE = 513, 1100, 512 * 512


def lonely(values: np.ndarray) -> np.ndarray:
    """A ground most of whose tiles hold nothing."""
    made = np.full_like(values, np.nan)
    made[40:300, 600:900] = values[40:300, 600:900]
    return made


GROUNDS = {
    "square": lambda: metric(relief(5, ROWS, COLS)),
    "four times as wide as high": lambda: metric(relief(6, ROWS, COLS), 20.0, 5.0),
    "degrees at 65 north": lambda: in_degrees(holed(relief(7, ROWS, COLS)), 65.0),
    "holes, feet": lambda: replace(metric(holed(relief(8, ROWS, COLS))), unit=FOOT),
    "values in one tile alone": lambda: metric(lonely(relief(4, ROWS, COLS))),
    "small relief on a large base": lambda: replace(
        metric(relief(9, ROWS, COLS)), values=4000.0 + relief(9, ROWS, COLS) * 1e-4
    ),
}
RUNNING = {"position"}
"""Works on running sums: tiles agree to the last digits."""


GENTLE = (
    {"low": 0.0, "high": 6.0, "code": 1, "name": "level", "color": "#112233"},
    {"low": 6.0, "high": 14.0, "code": 2, "name": "gentle", "color": "#445566"},
)
"""Classes that leave steep ground in none."""


def _study(source: Path, areas: Path) -> Study:
    dem = {"dem": "ground"}
    return Study(
        steps=(
            Step(id="ground", kind="open_grid", settings={"source": str(source)}),
            Step(id="areas", kind="open_shapes", settings={"source": str(areas)}),
            Step(id="slope", kind="slope", inputs=dem, settings={"unit": "percent"}),
            Step(id="aspect", kind="aspect", inputs=dem),
            Step(id="shade", kind="hillshade", inputs=dem),
            Step(id="lights", kind="several_lights", inputs=dem),
            Step(id="bend", kind="curvature", inputs=dem),
            Step(id="faces", kind="exposure", inputs=dem, settings={"bearing": 120}),
            Step(id="rugged", kind="ruggedness", inputs=dem),
            Step(id="rough", kind="roughness", inputs={"dem": "shaded"}),
            Step(id="shaded", kind="convert_units", inputs={"surface": "ground"}, settings={"to": "centimetre"}),
            Step(id="position", kind="position", inputs=dem, settings={"radius": 45}),
            Step(id="span", kind="relief", inputs=dem, settings={"radius": 45}),
            Step(id="open", kind="openness", inputs=dem, settings={"radius": 45}),
            Step(id="classes", kind="classify", inputs={"surface": "slope"}, settings={"rules": "fao_slope"}),
            Step(id="gentle", kind="classify", inputs={"surface": "slope"}, settings={"rules": GENTLE}),
            Step(id="steep", kind="threshold", inputs={"surface": "slope"}, settings={"above": 20}),
            Step(id="again", kind="threshold", inputs={"surface": "steep"}, settings={"at_least": 1}),
            Step(id="few", kind="class_among", inputs={"classes": "classes"}, settings={"among": "3,4"}),
            Step(id="sum", kind="formula", inputs={"a": "ground", "b": "span"}, settings={"expression": "a * 2 + b"}),
            Step(id="asks", kind="formula", inputs={"a": "aspect"}, settings={"expression": "a > 90"}),
            Step(id="less", kind="difference", inputs={"first": "ground", "second": "span"}),
            Step(id="both", kind="combine", inputs={"steep": "steep", "again": "again"}, settings={"rule": "all"}),
            Step(id="which", kind="combine", inputs={"steep": "steep", "on": "asks", "few": "few"}, settings={"rule": "which"}),
            Step(id="worst", kind="combine", inputs={"gentle": "gentle", "steep": "steep"}, settings={"rule": "worst"}),
            Step(id="score", kind="combine", inputs={"classes": "classes", "steep": "steep"}, settings={"rule": "weighted", "comparisons": "1,3; 1/3,1"}),
            Step(id="weighed", kind="weigh", inputs={"high": "ground", "steep": "slope"}, settings={"weights": "3,1"}),
            Step(id="inside", kind="mask", inputs={"surface": "slope", "areas": "areas"}),
        )
    )  # fmt: skip


@pytest.fixture(scope="module")
def folder(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return tmp_path_factory.mktemp("tiles")


@pytest.mark.parametrize(
    "on", first(GROUNDS, "degrees at 65 north", "holes, feet", "values in one tile alone")
)
def test_tiles_give_what_one_piece_gives(on: str, folder: Path) -> None:
    ground: Surface = GROUNDS[on]()
    source, areas = folder / f"{on}.tif".replace(" ", "_"), folder / "areas.geojson"
    write_surface(source, ground, on)
    xmin, ymin, xmax, ymax = ground.frame.box
    circle = shapely.Point((xmin + xmax) / 2, (ymin + ymax) / 2).buffer((xmax - xmin) / 3)
    write_shapes(areas, Shapes(np.array([circle]), {}, ground.frame.crs), "areas")
    study = _study(source, areas)
    targets = [step.id for step in study.steps]
    for written, expected in both_ways(study, targets, folder / f"work-{list(GROUNDS).index(on)}", TILE):
        running = written.ref in RUNNING
        assert_said_alike(written, expected, 1e-6 if running else 1e-9)
        assert_cells_alike(written, expected, 1e-4 if running else 0.0)


WIDER = {
    "cells of 8 by 2 m in feet": lambda: replace(metric(holed(relief(12, 700, COLS)), 8.0, 2.0), unit=FOOT),
    "degrees at 65 north": lambda: in_degrees(relief(13, 700, COLS), 65.0),
}


@pytest.mark.parametrize("on", WIDER)
def test_a_wide_disk_is_the_same_disk_in_every_tile(on: str, tmp_path: Path) -> None:
    """Of more cells than are looked at one by one, and in degrees of just so many that cells of the southern tiles,
    which are wider, would need fewer.
    """
    ground: Surface = WIDER[on]()
    widths = ground.frame.row_widths
    radius = 65.0 * float(widths[0] + widths[480]) / 2.0 if ground.frame.geographic else 400.0
    write_surface(tmp_path / "ground.tif", ground, on)
    study = Study(
        steps=(
            Step(id="ground", kind="open_grid", settings={"source": str(tmp_path / "ground.tif")}),
            Step(id="wide", kind="position", inputs={"dem": "ground"}, settings={"radius": radius}),
        )
    )
    for written, expected in both_ways(study, ["wide"], tmp_path / "work", TILE):
        assert_said_alike(written, expected, 1e-6)
        assert_cells_alike(written, expected, 1e-4)


def with_voids(ground: Surface) -> Surface:
    """Voids of all sizes, many of them over the rims of tiles, along the edge, and corner to corner."""
    dice, values = np.random.default_rng(23), ground.values.copy()
    for high, wide, count in ((1, 1, 400), (1, 30, 60), (25, 1, 60), (6, 7, 60), (10, 10, 40), (13, 20, 20)):
        for r, c in zip(dice.integers(0, ROWS, count), dice.integers(0, COLS, count), strict=True):
            values[r : r + high, c : c + wide] = np.nan
    values[505:513, 505:517] = values[200:204, 1000:1029] = np.nan
    values[100:160, 510] = values[130, 480:540] = np.nan
    return replace(ground, values=values)


@pytest.mark.parametrize(
    "on",
    first(
        ["square", "four times as wide as high", "degrees at 65 north", "holes, feet"],
        "four times as wide as high",
        "degrees at 65 north",
    ),
)
def test_voids_over_rims_are_filled_and_counted_once(on: str, tmp_path: Path) -> None:
    ground = with_voids(GROUNDS[on]())
    write_surface(tmp_path / "ground.tif", ground, on)
    study = Study(
        steps=(
            Step(id="ground", kind="open_grid", settings={"source": str(tmp_path / "ground.tif")}),
            Step(id="few", kind="fill_voids", inputs={"surface": "ground"}, settings={"most_cells": 30}),
            Step(id="most", kind="fill_voids", inputs={"surface": "ground"}, settings={"most_cells": 300}),
            Step(id="aspect", kind="aspect", inputs={"dem": "ground"}),
            Step(id="faces", kind="fill_voids", inputs={"surface": "aspect"}, settings={"most_cells": 150}),
            Step(id="slope", kind="slope", inputs={"dem": "most"}),
        )
    )
    found = list(both_ways(study, ["few", "most", "faces", "slope"], tmp_path / "work", TILE))
    for written, expected in found:
        assert_said_alike(written, expected, 1e-7)  # a mean of bearings, of their sums by tile
        assert_cells_alike(written, expected, 0.0)
    told = {w.ref: {f.name: f.value for f in w.findings} for w, _ in found}
    assert 300 < told["few"]["voids_filled"] < told["most"]["voids_filled"] < told["most"]["cells_filled"]


def shapes_over(ground: Surface) -> dict[str, np.ndarray]:
    """Areas, lines and points over the rims of tiles, some along the middles and the sides of cells."""
    frame, dice = ground.frame, np.random.default_rng(12)
    xmin, ymin, xmax, ymax = frame.box

    def places(count: int) -> np.ndarray:
        return dice.uniform((xmin, ymin), (xmax, ymax), (count, 2))

    dx, dy = frame.dx, frame.dy
    boxes = [
        shapely.box(
            xmin + (a + 0.5) * dx, ymin + (b + 0.5) * dy, xmin + (a + 300) * dx, ymin + (b + 99.5) * dy
        )
        for a, b in ((10, 20), (400, 180), (505, 300), (700, 400))
    ]
    stars = [shapely.convex_hull(shapely.multipoints(places(7))) for _ in range(6)]
    ways = [shapely.linestrings(places(5)) for _ in range(12)]
    along = [shapely.linestrings([(xmin + 512 * dx, ymin), (xmin + 512 * dx, ymax)])]
    return {
        "areas": np.array([*boxes, *stars], object),
        "lines": np.array([*ways, *along], object),
        "points": np.array([*shapely.points(places(60)), shapely.points(xmin + 512 * dx, ymax - 512 * dy)]),
    }


@pytest.mark.parametrize("on", ["four times as wide as high", "degrees at 65 north", "holes, feet"])
def test_shapes_are_laid_on_tiles_as_on_one_piece(on: str, tmp_path: Path) -> None:
    ground: Surface = GROUNDS[on]()
    write_surface(tmp_path / "ground.tif", ground, on)
    steps = [Step(id="ground", kind="open_grid", settings={"source": str(tmp_path / "ground.tif")})]
    for what, geometry in shapes_over(ground).items():
        path = tmp_path / f"{what}.geojson"
        names = {"name": np.array([f"n{k % 5}" for k in range(len(geometry))])}
        write_shapes(path, Shapes(geometry, names, ground.frame.crs), what)
        inputs = {"shapes": what, "like": "ground"}
        steps.append(Step(id=what, kind="open_shapes", settings={"source": str(path)}))
        steps.append(Step(id=f"{what}_classes", kind="rasterize", inputs=inputs))
        steps.append(Step(id=f"{what}_met", kind="rasterize", inputs=inputs, settings={"inside": True}))
    targets = [s.id for s in steps if s.kind == "rasterize"]
    for written, expected in both_ways(Study(steps=tuple(steps)), targets, tmp_path / "work", TILE):
        assert_said_alike(written, expected, 1e-9)
        assert_cells_alike(written, expected, 0.0)
