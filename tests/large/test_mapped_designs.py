"""Pads, roads and bunds on grounds that are mapped from files: the same as in memory, and mapped, too."""

from pathlib import Path

import numpy as np
import pytest
import shapely

from moss_step.formats.raster_write import write_surface
from moss_step.kinds.registry import cells_of, is_mapped
from moss_step.model.outcome import Outcome
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.steps.catalogue import step_kind
from moss_step.study.engine import Engine
from moss_step.study.graph import Step, Study
from tests.grounds import large_grounds
from tests.large.held import as_if_large, assert_cells_alike, assert_said_alike, in_tiles

GROUNDS = large_grounds(180, 260)
DESIGNS = ("pad", "balanced", "road", "bund")


def study_on(folder: Path, ground: Surface) -> Study:
    """A ground with a pad at a level, one that is balanced, a road and a bund in its middle."""
    write_surface(folder / "ground.tif", ground, "ground")
    xmin, ymin, xmax, ymax = ground.frame.box
    x, y, wide, high = (xmin + xmax) / 2, (ymin + ymax) / 2, (xmax - xmin) / 20, (ymax - ymin) / 20
    box = shapely.get_coordinates(shapely.box(x, y, x + wide, y + high))[:-1]
    outline = ";".join(f"{a!r},{b!r}" for a, b in box.tolist())
    path = f"{x - wide!r},{y - high!r};{x!r},{y!r};{x + 2 * wide!r},{y + high / 2!r}"
    middle = float(np.nanmedian(ground.values))
    on = {"surface": "ground"}
    steep = {"cut_slope": 0.2, "fill_slope": 0.2}
    return Study(
        steps=(
            Step(id="ground", kind="open_grid", settings={"source": str(folder / "ground.tif")}),
            Step(id="pad", kind="pad", inputs=on, settings={"outline": outline, "lies": "at_level", "level": middle, **steep}),
            Step(id="balanced", kind="pad", inputs=on, settings={"outline": outline, **steep}),
            Step(id="road", kind="road", inputs=on, settings={"path": path, **steep}),
            Step(id="bund", kind="bund", inputs=on, settings={"path": path, "crest": middle}),
        )
    )  # fmt: skip


@pytest.fixture(scope="module", params=GROUNDS)
def study(request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory) -> Study:
    return study_on(tmp_path_factory.mktemp("designs"), GROUNDS[request.param]())


@pytest.fixture(scope="module")
def whole(study: Study) -> dict[str, Outcome]:
    engine = Engine()
    refs = [r for d in DESIGNS for r in (d, f"{d}.design", f"{d}.works")]
    return {r: engine.run_or_raise(study, r) for r in refs}


@pytest.fixture
def tight(whole: dict[str, Outcome], monkeypatch: pytest.MonkeyPatch) -> None:
    """Once all is known in memory, grids count as too large for it, and few rows are worked on at a time."""
    as_if_large(monkeypatch)


def test_a_mapped_ground_gives_what_one_in_memory_gives(
    study: Study, whole: dict[str, Outcome], tight: None
) -> None:
    engine = Engine()
    for ref, expected in whole.items():
        found = engine.run_or_raise(study, ref)
        assert [(f.name, f.value, f.unit) for f in found.findings] == [
            (f.name, f.value, f.unit) for f in expected.findings
        ], ref
        assert found.warnings == expected.warnings
        if ref.endswith(".works"):
            ours, theirs = found.of(Shapes), expected.of(Shapes)
            assert shapely.equals_exact(ours.geometry, theirs.geometry, 0.0).all()
        else:
            np.testing.assert_array_equal(cells_of(found.value), cells_of(expected.value), ref)
            assert is_mapped(found.value) and not is_mapped(expected.value), ref
    moved = [f.value for f in whole["pad"].findings if f.name in ("cut", "fill")]
    assert max(moved) > 0.0, "something is built"


def test_a_run_in_tiles_gives_the_same(
    study: Study, whole: dict[str, Outcome], tight: None, tmp_path: Path
) -> None:
    wanted = [r for r in whole if not r.endswith(".works")]
    for written in in_tiles(study, wanted, tmp_path / "work", 256 * 256):
        expected = whole[written.ref]
        assert_said_alike(written, expected, 0.0)
        assert_cells_alike(written, expected, 0.0)
        if written.outcome is not None:
            np.testing.assert_array_equal(cells_of(written.outcome.value), cells_of(expected.value))


def test_what_is_mapped_takes_no_memory_of_its_own(study: Study, tight: None) -> None:
    ground = Engine().run_or_raise(study, "ground").value
    assert is_mapped(ground)
    step = next(s for s in study.steps if s.id == "pad")
    kind = step_kind("pad")
    held = Surface(np.array(cells_of(ground)), ground.frame, ground.unit)
    said = [kind.bytes_needed(kind.checked(step.settings), {"surface": v}) for v in (ground, held)]
    assert said[1] - said[0] == 9 * cells_of(ground).size
