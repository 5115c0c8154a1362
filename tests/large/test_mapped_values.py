"""Steps that count all values of a ground, or fit it to the work, on grounds that are mapped from files: the same as in memory."""

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
import shapely

from moss_step.formats.raster_write import write_surface
from moss_step.formats.vector import write_shapes
from moss_step.formats.windows import GridReader
from moss_step.kinds.registry import cells_of
from moss_step.model import mapped
from moss_step.model.outcome import Outcome
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.table import Table
from moss_step.science.classes.quantiles import quantiles
from moss_step.study.declared import PART_READ
from moss_step.study.engine import Engine
from moss_step.study.graph import Step, Study
from tests.grounds import large_grounds
from tests.large.held import as_if_large, assert_cells_alike, assert_said_alike, in_tiles

ROWS, COLS = 180, 260
GROUNDS = large_grounds(ROWS, COLS)
GRIDS = (
    "interval", "counted", "natural", "coarser", "elsewhere", "turned", "box", "inside", "tints", "forms",
    "wet", "joined",
)  # fmt: skip
CHARTS = ("heights", "within", "beyond", "along")
SUMS = 1e-9
"""How near sums come that are added up in another order."""


def study_on(folder: Path, ground: Surface) -> Study:
    """A ground in classes by its own values, its curves, and the ground as other work needs it."""
    write_surface(folder / "ground.tif", ground, "ground")
    xmin, ymin, xmax, ymax = ground.frame.box
    wide, high = xmax - xmin, ymax - ymin
    above = ground.values - np.nanmin(ground.values)
    write_surface(folder / "above.tif", replace(ground, values=above, quantity="drain_height"), "above")
    rim = shapely.Point(0, 0).buffer(1.0)
    farm = shapely.transform(rim, lambda p: p * [wide / 4, high / 4] + [xmin + wide / 3, ymin + high / 2])
    write_shapes(folder / "farm.gpkg", Shapes(np.array([farm], object), {}, ground.frame.crs), "farm")
    box = f"{xmin + wide / 5},{ymin + high / 6},{xmax - wide / 3},{ymax - high / 4}"
    there, on, cell = {"dem": "ground"}, {"surface": "ground"}, 2.6 * ground.frame.dx
    area = {"area": "farm"}
    return Study(
        steps=(
            Step(id="ground", kind="open_grid", settings={"source": str(folder / "ground.tif")}),
            Step(id="farm", kind="open_shapes", settings={"source": str(folder / "farm.gpkg")}),
            Step(id="above", kind="open_grid", settings={"source": str(folder / "above.tif")}),
            Step(id="facing", kind="aspect", inputs=there),
            Step(id="interval", kind="classify", inputs=on, settings={"rules": "equal_interval", "count": 4}),
            Step(id="counted", kind="classify", inputs=on, settings={"rules": "equal_count", "count": 7}),
            Step(id="natural", kind="classify", inputs=on, settings={"rules": "natural", "count": 5}),
            Step(id="coarser", kind="resample", inputs=on, settings={"cell": cell, "resampling": "average"}),
            Step(id="elsewhere", kind="reproject", inputs=on, settings={"crs": "EPSG:3035", "resampling": "cubic"}),
            Step(id="turned", kind="resample", inputs={"surface": "facing"}, settings={"cell": cell}),
            Step(id="box", kind="crop", inputs=on, settings={"box": box}),
            Step(id="inside", kind="crop", inputs={**on, **area}),
            Step(id="tints", kind="relief_tint", inputs=there),
            Step(id="forms", kind="landform", inputs=there, settings={"small": 60.0, "large": 300.0}),
            Step(id="wet", kind="flood", inputs={"above": "above"}, settings={"stage": float(np.nanmax(above)) / 4}),
            Step(id="joined", kind="merge", inputs={"first": "box", "second": "ground"}),
            Step(id="along", kind="profile", inputs=on, settings={"line": (xmin + wide / 50, ymin + high / 30, xmax - wide / 40, ymax - high / 20)}),
            Step(id="heights", kind="hypsometry", inputs=there),
            Step(id="within", kind="hypsometry", inputs={**there, **area}),
            Step(id="beyond", kind="threshold_curve", inputs={**on, **area}, settings={"side": "below"}),
            Step(id="changes", kind="class_change", inputs={"before": "interval", "after": "natural"}),
        )
    )  # fmt: skip


@pytest.fixture(scope="module", params=GROUNDS)
def study(request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory) -> Study:
    return study_on(tmp_path_factory.mktemp("values"), GROUNDS[request.param]())


@pytest.fixture(scope="module")
def whole(study: Study) -> Engine:
    engine = Engine()
    for ref in (*GRIDS, *CHARTS, "changes"):
        engine.run_or_raise(study, ref)
    return engine


@pytest.fixture
def tight(whole: Engine, monkeypatch: pytest.MonkeyPatch) -> None:
    """Once all is known in memory, grids count as too large for it, and few rows are worked on at a time."""
    as_if_large(monkeypatch)


def assert_alike(found: Outcome, expected: Outcome) -> None:
    """The same cells in the same frame, or the same curves; and the same said of them."""
    curve = expected.of(Table)
    if curve is not None:
        for name, column in curve.columns.items():
            np.testing.assert_allclose(found.of(Table).columns[name], column, rtol=SUMS, err_msg=name)
    else:
        np.testing.assert_array_equal(cells_of(found.value), cells_of(expected.value))
        assert found.value.frame == expected.value.frame
    assert found.warnings == expected.warnings
    assert [(f.name, f.of, f.unit) for f in found.findings] == [
        (f.name, f.of, f.unit) for f in expected.findings
    ]
    np.testing.assert_allclose(
        [f.value for f in found.findings], [f.value for f in expected.findings], rtol=SUMS
    )


def test_a_mapped_ground_gives_what_one_in_memory_gives(study: Study, whole: Engine, tight: None) -> None:
    engine = Engine()
    for ref in (*GRIDS, *CHARTS, "changes"):
        found, expected = engine.run_or_raise(study, ref), whole.run_or_raise(study, ref)
        assert_alike(found, expected)
        if ref not in CHARTS:
            assert mapped.map_of(cells_of(found.value)) is not None, ref
            assert mapped.map_of(cells_of(expected.value)) is None, ref


def test_a_run_in_tiles_gives_the_same(study: Study, whole: Engine, tight: None, tmp_path: Path) -> None:
    wanted = (*GRIDS, *CHARTS, "changes", "changes.table")
    for written in in_tiles(study, wanted, tmp_path / "work", 256 * 256):
        expected = whole.run_or_raise(study, written.ref)
        assert_said_alike(written, expected, SUMS)
        assert_cells_alike(written, expected, 0.0)
        if written.outcome is not None and written.ref not in ("changes.table", *CHARTS):
            np.testing.assert_array_equal(cells_of(written.outcome.value), cells_of(expected.value))


def test_of_a_ground_that_is_cropped_only_that_part_is_read(
    study: Study, whole: Engine, tight: None, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    read, cells = GridReader.read, list[int]()

    def counted(self: GridReader, rows: slice, cols: slice) -> np.ndarray:
        cells.append((rows.stop - rows.start) * (cols.stop - cols.start))
        return read(self, rows, cols)

    monkeypatch.setattr(GridReader, "read", counted)
    cropped = Study(steps=tuple(s for s in study.steps if s.id in ("ground", "farm", "inside")))
    (written,) = in_tiles(cropped, ["inside"], tmp_path / "work", 256 * 256)
    assert PART_READ not in written.warnings, "what was asked is all that there is"
    assert written.outcome is not None
    looked = ROWS * COLS  # the ground is looked at once, for its base
    assert sum(cells) - looked < 1.4 * cells_of(written.outcome.value).size


@pytest.mark.parametrize("count", [1, 2, 7, 50])
@pytest.mark.parametrize("kind", [np.float32, np.float64])
@pytest.mark.parametrize(
    ("scale", "step", "base"),
    [(1.0, 0.0, 0.0), (1e-3, 1e-4, 0.0), (1e6, 0.0, 0.0), (1.0, 0.0, 5e3), (0.0, 0.0, -2.0)],
)
def test_quantiles_are_those_of_a_library(
    scale: float, step: float, base: float, kind: type, count: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Against NumPy's `quantile`, which sorts a copy."""
    rng = np.random.default_rng(count)
    values = rng.normal(size=(61, 83)) * scale + base
    values = (np.round(values / step) * step if step else values).astype(kind)
    values[rng.random(values.shape) < 0.1] = np.nan
    monkeypatch.setattr(mapped, "_BLOCK", 700)
    shares = np.linspace(0.0, 1.0, count + 1)
    expected = np.quantile(values[~np.isnan(values)], shares).astype(kind)
    np.testing.assert_array_equal(quantiles(values, shares), expected)


def test_quantiles_of_no_values_are_none() -> None:
    assert np.isnan(quantiles(np.full((3, 2), np.nan, np.float32), [0.0, 0.5])).all()
