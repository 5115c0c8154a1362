"""Surfaces between places and of points whose cells memory cannot hold: mapped, and the same as in memory."""

from pathlib import Path

import numpy as np
import pytest
import shapely

from moss_step.demo import DATA
from moss_step.formats.vector import write_shapes
from moss_step.kinds.registry import cells_of
from moss_step.model import mapped
from moss_step.model.arrays import as_short, blurred
from moss_step.model.shapes import Shapes
from moss_step.science.points import grids
from moss_step.study import declared
from moss_step.study.engine import Engine
from moss_step.study.graph import Step, Study

UTM = "EPSG:32628"
EXACT = ("natural_neighbour", "inverse_distance", "nearest", "tin")


def study_on(folder: Path) -> Study:
    """Heights at places all over a shore, the surface between them, and what comes of it."""
    rng = np.random.default_rng(4)
    x, y = rng.uniform(0, 900, 260), rng.uniform(0, 700, 260)
    z = 40.0 + 20.0 * np.sin(x / 150.0) * np.cos(y / 110.0)
    write_shapes(
        folder / "spots.gpkg", Shapes(np.asarray(shapely.points(x, y)), {"z": z}, UTM, {"z": "m"}), "spots"
    )
    shore = shapely.Point(450, 350).buffer(330)
    write_shapes(folder / "shore.gpkg", Shapes(np.array([shore], object), {}, UTM), "shore")
    between = {"column": "z", "cell": 4.0}
    fed = {"points": "spots", "area": "shore"}
    return Study(
        steps=(
            *(Step(id=n, kind="open_shapes", settings={"source": str(folder / f"{n}.gpkg")}) for n in ("spots", "shore")),
            *(Step(id=m, kind="interpolate", inputs=fed, settings={**between, "method": m}) for m in (*EXACT, "kriging", "spline")),
            Step(id="near", kind="interpolate", inputs={"points": "spots"}, settings={**between, "method": "nearest", "reach": 30.0}),
            Step(id="slope", kind="slope", inputs={"dem": "tin"}),
            Step(id="drift", kind="interpolate", inputs={**fed, "drift": "nearest"}, settings={**between, "trend": "none"}),
            Step(id="cloud", kind="open_cloud", settings={"source": str(DATA / "harrow_heap.laz")}),
            Step(id="ground", kind="grid_points", inputs={"cloud": "cloud"}, settings={"cell": 1.0, "fill": 5.0, "classes": (0, 1, 2)}),
        )
    )  # fmt: skip


@pytest.fixture(scope="module")
def study(tmp_path_factory: pytest.TempPathFactory) -> Study:
    return study_on(tmp_path_factory.mktemp("surfaces"))


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
    monkeypatch.setattr(mapped, "LARGE", 1000)
    monkeypatch.setattr(mapped, "_BLOCK", 10_000)
    monkeypatch.setattr(declared, "too_large", lambda _: True)
    monkeypatch.setattr(grids, "MOST", 1000)


@pytest.mark.parametrize(
    "ref", [*EXACT, "near", "kriging", "kriging.error", "spline", "drift", "slope", "ground"]
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
    engine = Engine()
    monkeypatch.setattr(mapped, "room_to_map", lambda: 1000)
    monkeypatch.setattr("moss_step.model.memory.free_memory", lambda: 100_000)
    monkeypatch.setattr(mapped, "LARGE", 1000)
    engine.run(study, ["nearest"])
    failed = engine.failure(study, "nearest")
    assert failed is not None and "larger cells" in failed.reason
