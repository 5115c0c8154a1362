"""Water tile by tile against water in one piece: equal cell by cell."""

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
import shapely

from moss_step.formats.raster_write import write_surface
from moss_step.formats.vector import write_shapes
from moss_step.model.errors import MossError
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.units import FOOT, METRE
from moss_step.science.water.drainage import prepare
from moss_step.science.water.kernels.trace import longest_up
from moss_step.study.graph import Step, Study
from tests.grounds import first, holed, in_degrees, metric, relief
from tests.large.held import assert_cells_alike, assert_said_alike, assert_shapes_alike, both_ways, in_tiles

ROWS, COLS, CELLS = 560, 640, 512 * 512


def rough(seed: int) -> np.ndarray:
    """Hills with noise: thousands of small depressions, many across the rims of tiles."""
    return relief(seed, ROWS, COLS) + np.random.default_rng(seed).normal(size=(ROWS, COLS)) * 0.5


def lakes(seed: int) -> np.ndarray:
    """Whole metres: level ground everywhere, and lakes over several tiles."""
    z = np.round(rough(seed) / 3.0)
    z[150:540, 350:600] = z[150:540, 350:600].min() - 5
    z[500:520, :400] = z.min() + 3
    return z


def mirrored(ground: Surface) -> Surface:
    """The same ground from the other side: tiles cut it elsewhere."""
    return replace(ground, values=np.ascontiguousarray(ground.values[:, ::-1]))


GROUNDS = {
    "rough": lambda: metric(rough(1)),
    "whole metres with lakes": lambda: metric(lakes(2)),
    "oblong, holes": lambda: metric(holed(np.round(rough(3), 1)), 20.0, 5.0),
    "degrees at 65 north": lambda: in_degrees(holed(rough(4)), 65.0),
    "feet, high cells, mirrored": lambda: mirrored(replace(metric(holed(rough(6)), 5.0, 20.0), unit=FOOT)),
    "a plane that is level": lambda: metric(np.full((ROWS, COLS), 7.0)),
    "small relief on a large base": lambda: Surface(
        4000.0 + np.round(rough(5) * 1e-4, 5), metric(rough(5)).frame, metric(rough(5)).unit
    ),
}


def rain_on(ground: Surface) -> Surface:
    """Rain that differs from cell to cell, and is not known of some."""
    dice = np.random.default_rng(9)
    fallen = dice.random(ground.frame.shape).astype(np.float32)
    fallen[dice.random(fallen.shape) < 0.01] = np.nan
    return Surface(fallen, ground.frame, METRE)


def study_on(folder: Path, ground: Surface) -> Study:
    source, dem = folder / "ground.tif", {"dem": "ground"}
    low, high = ground.range or (0.0, 0.0)
    flatter = min(max((high - low) / 1e3, 1e-9), 1.0)
    rise = flatter if high > low else 1.0
    places = [(ground.frame.x_of(c), ground.frame.y_of(r)) for r, c in ((30, 40), (301, 322), (505, 600))]
    valleys = places_on(ground) if ground.valid_count else places
    write_surface(source, ground, "ground")
    write_surface(folder / "rain.tif", rain_on(ground), "rain")
    return Study(
        steps=(
            Step(id="ground", kind="open_grid", settings={"source": str(source)}),
            Step(id="filled", kind="fill_depressions", inputs=dem),
            Step(
                id="tarns",
                kind="fill_depressions",
                inputs=dem,
                settings={"keep_depth": 1.0, "keep_area": 5e4},
            ),
            Step(id="risen", kind="fill_depressions", inputs=dem, settings={"gradient": 0.01 * rise}),
            Step(
                id="around",
                kind="fill_depressions",
                inputs=dem,
                settings={"gradient": 1e-3 * rise, "keep_depth": 1.0},
            ),
            Step(id="ways", kind="flow_directions", inputs=dem),
            Step(id="cells", kind="flow_accumulation", inputs=dem),
            Step(
                id="area", kind="flow_accumulation", inputs=dem, settings={"unit": "area", "edges": "blank"}
            ),
            Step(
                id="rain",
                kind="open_grid",
                settings={"source": str(source.with_name("rain.tif")), "unit": "metre"},
            ),
            Step(id="wet", kind="flow_accumulation", inputs={**dem, "weights": "rain"}),
            Step(
                id="water",
                kind="flow_accumulation",
                inputs={**dem, "weights": "rain"},
                settings={"unit": "area", "edges": "blank"},
            ),
            Step(id="slope", kind="slope", inputs={"dem": "filled"}),
            Step(id="streams", kind="streams", inputs=dem, settings={"min_area": 40_000.0}),
            Step(
                id="steep",
                kind="streams",
                inputs=dem,
                settings={"min_area": 4_000.0 * flatter**1.3, "slope_exponent": 1.3},
            ),
            Step(id="above", kind="drain_height", inputs=dem, settings={"min_area": 90_000.0}),
            Step(id="far", kind="flow_length", inputs=dem),
            Step(id="basins", kind="basins", inputs=dem),
            Step(id="large", kind="basins", inputs=dem, settings={"min_area": 20_000.0}),
            Step(id="pools", kind="basins", inputs=dem, settings={"min_depth": 0.4 * rise, "min_area": 9e3}),
            Step(id="hollows", kind="depressions", inputs=dem),
            Step(
                id="deep", kind="depressions", inputs=dem, settings={"least_depth": 0.5, "least_area": 200.0}
            ),
            Step(id="down", kind="flow_path", inputs=dem, settings={"start": places}),
            Step(id="short", kind="flow_path", inputs=dem, settings={"start": places, "cut": places[:1]}),
            Step(id="up", kind="flow_path", inputs=dem, settings={"start": valleys, "side": "up"}),
            Step(id="links", kind="stream_basins", inputs=dem, settings={"min_area": 60_000.0}),
        )
    )


@pytest.mark.parametrize(
    "on",
    first(
        GROUNDS,
        "whole metres with lakes",
        "oblong, holes",
        "feet, high cells, mirrored",
    ),
)
def test_tiles_give_what_one_piece_gives(on: str, tmp_path: Path) -> None:
    ground: Surface = GROUNDS[on]()
    study = study_on(tmp_path, ground)
    targets = [*(s.id for s in study.steps), "streams.nodes", "steep.nodes", "down.end"]
    if on == "a plane that is level":  # all of it drains to the edge by itself
        targets = [t for t in targets if not t.startswith(("streams", "links", "steep"))]
    for written, expected in both_ways(study, targets, tmp_path / "work", CELLS):
        assert_said_alike(written, expected, 1e-7)
        assert_cells_alike(written, expected, 2e-7 if written.ref in ("area", "far", "wet", "water") else 0.0)
        assert_shapes_alike(written, expected, 1e-9)


def sharing_on(folder: Path, ground: Surface) -> Study:
    source, dem = folder / "ground.tif", {"dem": "ground"}
    write_surface(source, ground, "ground")
    write_surface(folder / "rain.tif", rain_on(ground), "rain")
    opened = {
        "ground": {"source": str(source)},
        "rain": {"source": str(folder / "rain.tif"), "unit": "metre"},
    }
    derived = {
        "spread": ("flow_accumulation", {"method": "freeman"}),
        "gathered": ("flow_accumulation", {"method": "freeman", "exponent": 4.0, "unit": "area"}),
        "facets": ("flow_accumulation", {"method": "dinf", "unit": "area", "edges": "blank"}),
        "ways": ("flow_directions", {"method": "dinf"}),
        "soaked": ("wetness", {}),
        "damp": ("wetness", {"method": "d8"}),
        "power": ("stream_power", {}),
        "carried": ("stream_power", {"method": "freeman", "index": "sediment"}),
    }
    fallen = {"method": "dinf", "edges": "blank"}
    return Study(
        steps=(
            *(Step(id=k, kind="open_grid", settings=v) for k, v in opened.items()),
            *(Step(id=k, kind=kind, inputs=dem, settings=v) for k, (kind, v) in derived.items()),
            Step(id="wet", kind="flow_accumulation", inputs={**dem, "weights": "rain"}, settings=fallen),
        )
    )


@pytest.mark.parametrize(
    "on",
    first(
        sorted(set(GROUNDS) - {"rough", "small relief on a large base"}),
        "oblong, holes",
        "degrees at 65 north",
    ),
)
def test_water_that_is_shared_out_is_that_of_one_piece(on: str, tmp_path: Path) -> None:
    study = sharing_on(tmp_path, GROUNDS[on]())
    targets = ["facets", "ways", "soaked", "carried", "wet"]
    if on == "oblong, holes":
        targets += ["spread", "gathered", "damp", "power"]
    for written, expected in both_ways(study, targets, tmp_path / "work", CELLS):
        assert_said_alike(written, expected, 1e-7)
        assert_cells_alike(written, expected, 2e-7 if written.ref == "damp" else 0.0)


def places_on(ground: Surface) -> str:
    """Points in the valleys of a ground, several of which lie upstream of others."""
    drainage = prepare(ground)
    most = int(np.argmax(drainage.cells))
    way = longest_up(drainage.ways, drainage.metres, most)
    cells = [
        most,
        way[len(way) // 3],
        way[2 * len(way) // 3],
        way[len(way) // 2],
        drainage.cells.size // 2 + 77,
    ]
    return "; ".join(f"{float(x)!r},{float(y)!r}" for x, y in ground.frame.centres(np.array(cells)))


@pytest.mark.parametrize(
    "on",
    first(
        ["rough", "oblong, holes", "degrees at 65 north", "feet, high cells, mirrored"],
        "oblong, holes",
        "feet, high cells, mirrored",
    ),
)
def test_catchments_are_those_of_one_piece(on: str, tmp_path: Path) -> None:
    """Each with and without those upstream, points moved to streams, names, and a place that is given twice."""
    ground: Surface = GROUNDS[on]()
    write_surface(tmp_path / "ground.tif", ground, on)
    at, dem = places_on(ground), {"dem": "ground"}
    twice = f"{at}; {at.split(';')[1]}"
    settings = {
        "plain": {"at": twice, "names": "2=Upper Gill"},
        "nested": {"at": at, "nested": True},
        "snapped": {"at": at, "snap": 60.0},
    }
    study = Study(
        steps=(
            Step(id="ground", kind="open_grid", settings={"source": str(tmp_path / "ground.tif")}),
            *(Step(id=k, kind="catchment", inputs=dem, settings=s) for k, s in settings.items()),
        )
    )
    for written, expected in both_ways(study, list(settings), tmp_path / "work", CELLS):
        assert_said_alike(written, expected, 1e-9)
        assert_shapes_alike(written, expected, 1e-9)


def shapes_on(folder: Path, ground: Surface) -> dict[str, Shapes]:
    """Lines across valleys, one of them upstream of another and one that a stream meets twice; and areas, one inside another."""
    xmin, ymin, xmax, ymax = ground.frame.box

    def at(*places: tuple[float, float]) -> list[tuple[float, float]]:
        return [(xmin + x * (xmax - xmin), ymin + y * (ymax - ymin)) for x, y in places]

    lines = [
        shapely.LineString(at((0.2, 0.3), (0.7, 0.45))),
        shapely.LineString(at((0.3, 0.62), (0.5, 0.7), (0.45, 0.58), (0.62, 0.6))),
        shapely.LineString(at((0.8, 0.1), (0.8, 0.12))),
    ]
    areas = [
        shapely.Polygon(at((0.3, 0.3), (0.6, 0.2), (0.7, 0.6), (0.4, 0.5))),
        shapely.Polygon(at((0.45, 0.35), (0.5, 0.35), (0.48, 0.4))),
        shapely.Polygon(at((0.9, 0.9), (1.2, 0.9), (1.1, 1.3))),
    ]
    made = {
        name: Shapes(np.array(some, object), {}, ground.frame.crs)
        for name, some in (("lines", lines), ("areas", areas))
    }
    for name, shapes in made.items():
        write_shapes(folder / f"{name}.gpkg", shapes, name)
    return made


@pytest.mark.parametrize(
    "on", first(["whole metres with lakes", "oblong, holes", "degrees at 65 north"], "oblong, holes")
)
def test_catchments_of_lines_and_areas_are_those_of_one_piece(on: str, tmp_path: Path) -> None:
    ground: Surface = GROUNDS[on]()
    write_surface(tmp_path / "ground.tif", ground, on)
    made = shapes_on(tmp_path, ground)
    dam = ",".join(str(v) for v in shapely.get_coordinates(made["lines"].geometry[0]).reshape(-1))
    settings = {f"{name}-{n}": {"nested": n} for name in made for n in (False, True)}
    study = Study(
        steps=(
            Step(id="ground", kind="open_grid", settings={"source": str(tmp_path / "ground.tif")}),
            *(Step(id=n, kind="open_shapes", settings={"source": str(tmp_path / f"{n}.gpkg")}) for n in made),
            Step(id="dam", kind="catchment", inputs={"dem": "ground"}, settings={"line": dam}),
            *(
                Step(id=k, kind="catchment", inputs={"dem": "ground", "outlets": k.split("-")[0]}, settings=s)
                for k, s in settings.items()
            ),
        )
    )  # fmt: skip
    for written, expected in both_ways(study, ["dam", *settings], tmp_path / "work", CELLS):
        assert_said_alike(written, expected, 1e-9)
        assert_shapes_alike(written, expected, 1e-9)


def test_a_line_beside_the_ground_is_refused_as_in_one_piece(tmp_path: Path) -> None:
    ground = metric(rough(3))
    write_surface(tmp_path / "ground.tif", ground, "ground")
    x0, y0 = ground.frame.x0, ground.frame.y0
    study = Study(
        steps=(
            Step(id="ground", kind="open_grid", settings={"source": str(tmp_path / "ground.tif")}),
            Step(id="none", kind="catchment", inputs={"dem": "ground"}, settings={"line": f"{x0 - 90},{y0},{x0 - 50},{y0}"}),
        )
    )  # fmt: skip
    with pytest.raises(MossError, match="outside the ground or on no-data"):
        list(in_tiles(study, ["none"], tmp_path / "work", CELLS))


def test_places_that_have_no_catchment_are_refused_as_in_one_piece(tmp_path: Path) -> None:
    ground = metric(holed(rough(3)))
    write_surface(tmp_path / "ground.tif", ground, "ground")
    x0, y0 = ground.frame.x0, ground.frame.y0
    hole = np.argwhere(np.isnan(ground.values))[0]
    x, y = ground.frame.centres(np.array([hole[0] * COLS + hole[1]]))[0]
    asked = {
        f"{x0 - 50},{y0}": ("outside the ground", False),
        f"{x},{y}": ("has no height", False),
        f"{x0 + 501},{y0 - 501}; {x0 + 501},{y0 - 501}": ("in one cell", True),
    }
    for at, (said, nested) in asked.items():
        settings = {"at": at, "nested": nested}
        study = Study(
            steps=(
                Step(id="ground", kind="open_grid", settings={"source": str(tmp_path / "ground.tif")}),
                Step(id="none", kind="catchment", inputs={"dem": "ground"}, settings=settings),
            )
        )
        with pytest.raises(MossError, match=said):
            list(in_tiles(study, ["none"], tmp_path / "work", CELLS))


@pytest.mark.parametrize("step", ["filled", "cells", "above", "far", "basins", "streams", "links"])
def test_a_ground_without_values_is_refused_as_in_one_piece(step: str, tmp_path: Path) -> None:
    study = study_on(tmp_path, metric(np.full((ROWS, COLS), np.nan)))
    with pytest.raises(MossError, match="The ground holds no values"):
        list(in_tiles(study, [step], tmp_path / "work", CELLS))


@pytest.mark.parametrize("step", ["streams", "links"])
def test_a_plane_has_no_streams_as_in_one_piece(step: str, tmp_path: Path) -> None:
    study = study_on(tmp_path, GROUNDS["a plane that is level"]())
    with pytest.raises(MossError, match="No stream has as much ground upstream"):
        list(in_tiles(study, [step], tmp_path / "work", CELLS))


def test_weights_that_do_not_lie_on_the_ground_are_refused(tmp_path: Path) -> None:
    ground = GROUNDS["rough"]()
    study = study_on(tmp_path, ground)
    aside = replace(ground.frame, x0=ground.frame.x0 + ground.frame.dx)
    write_surface(tmp_path / "rain.tif", replace(rain_on(ground), frame=aside), "rain")
    with pytest.raises(MossError, match="do not lie cell on cell"):
        list(in_tiles(study, ["wet"], tmp_path / "work", CELLS))
