"""Surfaces between places and of points whose cells memory cannot hold: mapped, and the same as in memory."""

from pathlib import Path
from typing import NamedTuple

import numpy as np
import pytest
import shapely

from moss_step.demo import DATA
from moss_step.formats.raster_write import write_surface
from moss_step.formats.vector import write_shapes
from moss_step.kinds.registry import cells_of
from moss_step.model import mapped, memory
from moss_step.model.arrays import as_short, blurred
from moss_step.model.errors import MossError
from moss_step.model.frame import Frame
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.units import FOOT, METRE, Unit
from moss_step.science.points import grids
from moss_step.study.engine import Engine
from moss_step.study.graph import Step, Study
from tests.large.held import as_if_large

MEASURES = ("first", "highest", "lowest", "mean", "spread", "count", "density", "intensity")
EXACT = ("natural_neighbour", "inverse_distance", "nearest", "tin")


class Place(NamedTuple):
    """Where the places lie: their system, its units to the east and north of a metre, their corner, the unit of the heights, and cells in metres."""

    crs: str
    east: float
    north: float
    corner: tuple[float, float]
    unit: Unit
    cells: tuple[float, float]


DEGREE = 1.0 / 111_320.0
PLACES = {
    "square cells": Place("EPSG:32628", 1.0, 1.0, (412_000.0, 5_872_000.0), METRE, (4.0, 4.0)),
    "cells of 8 by 2 m in feet": Place("EPSG:32628", 1.0, 1.0, (412_000.0, 5_872_000.0), FOOT, (8.0, 2.0)),
    "degrees at 65 north, to the west": Place("EPSG:4326", -DEGREE / np.cos(np.radians(65.0)), DEGREE, (-3.0, 65.0), METRE, (4.0, 4.0)),
}  # fmt: skip


def study_on(folder: Path, on: Place) -> Study:
    """Heights at places all over a shore, the surface between them, and what comes of it."""
    rng = np.random.default_rng(4)
    x, y = rng.uniform(0, 900, 260), rng.uniform(0, 700, 260)
    z = 40.0 + 20.0 * np.sin(x / 150.0) * np.cos(y / 110.0)

    def carried(east: np.ndarray, north: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        return on.corner[0] + east * on.east, on.corner[1] + north * on.north

    points = np.asarray(shapely.points(*carried(x, y)))
    write_shapes(folder / "spots.gpkg", Shapes(points, {"z": z}, on.crs, {"z": on.unit.symbol}), "spots")
    rim = shapely.get_coordinates(shapely.Point(450, 350).buffer(330)).T
    shore = shapely.Polygon(np.stack(carried(*rim), axis=1))
    write_shapes(folder / "shore.gpkg", Shapes(np.array([shore], object), {}, on.crs), "shore")
    dx, dy = on.cells[0] * abs(on.east), on.cells[1] * on.north
    west = on.corner[0] + min(900 * on.east, 0.0)
    frame = Frame(
        int(700 / on.cells[1]), int(900 / on.cells[0]), west, on.corner[1] + 700 * on.north, dx, dy, on.crs
    )
    write_surface(folder / "cells.tif", Surface(np.zeros(frame.shape, np.float32), frame, on.unit), "cells")
    fed = {"points": "spots", "area": "shore", "like": "cells"}
    return Study(
        steps=(
            *(Step(id=n, kind="open_shapes", settings={"source": str(folder / f"{n}.gpkg")}) for n in ("spots", "shore")),
            Step(id="cells", kind="open_grid", settings={"source": str(folder / "cells.tif")}),
            *(Step(id=m, kind="interpolate", inputs=fed, settings={"column": "z", "method": m}) for m in (*EXACT, "kriging", "spline")),
            Step(id="near", kind="interpolate", inputs={"points": "spots", "like": "cells"}, settings={"column": "z", "method": "nearest", "reach": 30.0}),
            Step(id="slope", kind="slope", inputs={"dem": "tin"}),
            Step(id="drift", kind="interpolate", inputs={**fed, "drift": "nearest"}, settings={"column": "z", "trend": "none"}),
            Step(id="cloud", kind="open_cloud", settings={"source": str(DATA / "harrow_heap.laz")}),
            Step(id="ground", kind="grid_points", inputs={"cloud": "cloud"}, settings={"cell": 1.0, "fill": 5.0, "classes": (0, 1, 2)}),
            *(Step(id=m, kind="grid_points", inputs={"cloud": "cloud"}, settings={"what": m, "cell": 1.0, "fill": 0.0}) for m in MEASURES),
            *(Step(id=n, kind="grid_points", inputs={"cloud": "cloud"}, settings={"what": "highest", "cell": 0.25, "fill": fill}) for n, fill in (("gappy", 0.0), ("closed", 5.0))),
        )
    )  # fmt: skip


@pytest.fixture(scope="module", params=PLACES)
def study(request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory) -> Study:
    return study_on(tmp_path_factory.mktemp("surfaces"), PLACES[request.param])


@pytest.fixture(scope="module")
def whole(study: Study) -> Engine:
    """All of it in memory; the points in blocks, as those of a large cloud are."""
    engine = Engine()
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(grids, "MOST", 1000)
        for ref in (*(s.id for s in study.steps), "kriging.error"):
            engine.run_or_raise(study, ref)
    return engine


@pytest.fixture
def tight(monkeypatch: pytest.MonkeyPatch) -> None:
    """Grids count as too large for memory, and few of their rows are worked on at a time."""
    as_if_large(monkeypatch, 10_000)
    monkeypatch.setattr(grids, "MOST", 1000)


@pytest.mark.parametrize(
    "ref", [*EXACT, "near", "kriging", "kriging.error", "spline", "drift", "slope", "ground", *MEASURES]
)
def test_cells_that_are_mapped_hold_what_those_in_memory_hold(
    ref: str, study: Study, whole: Engine, tight: None
) -> None:
    found, expected = Engine().run_or_raise(study, ref), whole.run_or_raise(study, ref)
    ours, theirs = cells_of(found.value), cells_of(expected.value)
    assert mapped.map_of(ours) is not None and mapped.map_of(theirs) is None
    assert np.isfinite(theirs).any() and ours.dtype == theirs.dtype
    if ref.split(".", maxsplit=1)[0] in (
        "kriging",
        "spline",
        "drift",
    ):  # sums of many products, in another order
        np.testing.assert_allclose(ours, theirs, rtol=2e-6, atol=2e-6)
    else:
        np.testing.assert_array_equal(ours, theirs)
    assert [(f.name, f.of, f.unit) for f in found.findings] == [
        (f.name, f.of, f.unit) for f in expected.findings
    ]
    np.testing.assert_allclose(
        [f.value for f in found.findings], [f.value for f in expected.findings], rtol=1e-5
    )


def test_gaps_of_a_grid_are_filled_in_memory_or_refused(
    study: Study, whole: Engine, tight: None, monkeypatch: pytest.MonkeyPatch
) -> None:
    found, expected = (e.run_or_raise(study, "closed").value for e in (Engine(), whole))
    np.testing.assert_array_equal(cells_of(found), cells_of(expected))
    assert np.isnan(cells_of(whole.run_or_raise(study, "gappy").value)).mean() > 0.1, "there are gaps"
    assert not np.isnan(cells_of(expected)).any()
    monkeypatch.setattr(memory, "free_memory", lambda: 80 * cells_of(expected).size)
    with pytest.raises(MossError, match=r"Filling gaps needs .* GB of memory.*larger cells"):
        Engine().run_or_raise(study, "closed")


@pytest.mark.parametrize("base", [0.0, 4000.0])
def test_digits_that_single_precision_blurs_are_seen_in_parts_too(
    base: float, monkeypatch: pytest.MonkeyPatch
) -> None:
    values = base + np.round(np.random.default_rng(1).random((300, 200)) * 1e-3, 7)
    values[::7] = np.nan
    monkeypatch.setattr(mapped, "LARGE", 1000)
    held = mapped.new_grid(values.shape, np.float64)
    held[:] = values
    monkeypatch.setattr(mapped, "_BLOCK", 3000)
    assert blurred(held) == blurred(values) == (base > 0)
    short = as_short(held)
    assert mapped.map_of(short) is not None and short.dtype == (np.float64 if base else np.float32)
    np.testing.assert_array_equal(short, values.astype(short.dtype))


def test_a_grid_that_fits_nowhere_is_refused(study: Study, monkeypatch: pytest.MonkeyPatch) -> None:
    around = Step(
        id="around",
        kind="interpolate",
        inputs={"points": "spots"},
        settings={"column": "z", "method": "nearest"},
    )
    engine, study = Engine(), Study(steps=(study.steps[0], around))
    monkeypatch.setattr(mapped, "room_to_map", lambda: 1000)
    monkeypatch.setattr("moss_step.model.memory.free_memory", lambda: 1000)
    monkeypatch.setattr(mapped, "LARGE", 1000)
    engine.run(study, ["around"])
    failed = engine.failure(study, "around")
    assert failed is not None and "larger cells" in failed.reason
