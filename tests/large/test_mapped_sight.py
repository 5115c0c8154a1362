"""Sight on grounds that are mapped from files because memory cannot hold them: the same as in one piece."""

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from moss_step.formats.raster_write import write_surface
from moss_step.kinds.registry import cells_of
from moss_step.model import mapped
from moss_step.model.class_map import NO_CLASS
from moss_step.model.errors import MossError
from moss_step.model.frame import Frame
from moss_step.model.surface import Surface
from moss_step.science.sight import viewshed
from moss_step.study.engine import Engine
from moss_step.study.graph import Step, Study
from tests.grounds import first, in_degrees, large_grounds
from tests.large.held import assert_cells_alike, assert_said_alike, in_tiles

ROWS, COLS = 420, 610
GROUNDS = large_grounds(ROWS, COLS)
REFS = ("seen", "which", "mast", "angle")


def places(frame: Frame) -> str:
    """Two observers on the ground, in cells that have values."""
    x, y = frame.x0 + frame.cols * 0.31 * frame.dx, frame.y0 - frame.rows * 0.4 * frame.dy
    return f"{x},{y};{x + 90 * frame.dx},{y + 35 * frame.dy}"


def study_on(folder: Path, ground: Surface, **more: object) -> Study:
    write_surface(folder / "ground.tif", ground, "ground")
    write_surface(
        folder / "trees.tif", replace(ground, values=ground.values + 2 * (ground.values % 7 > 6)), "trees"
    )
    write_surface(
        folder / "people.tif", replace(ground, values=(ground.values % 5).astype(np.float32)), "people"
    )
    sees = {"at": places(ground.frame), "observer_height": 25.0, **more}
    standing = {"dem": "ground", "obstacles": "trees"}
    return Study(
        steps=(
            *(Step(id=n, kind="open_grid", settings={"source": str(folder / f"{n}.tif")}) for n in ("ground", "trees", "people")),
            Step(id="seen", kind="viewshed", inputs={**standing, "weights": "people"}, settings={**sees, "target_height": 1.5}),
            Step(id="which", kind="which_see", inputs={"dem": "ground"}, settings=sees),
            Step(id="mast", kind="mast_height", inputs=standing, settings=sees),
            Step(id="angle", kind="horizon_angle", inputs={"dem": "ground"}, settings=sees),
        )
    )  # fmt: skip


@pytest.mark.parametrize("on", first(GROUNDS, "oblong cells, holes, feet"))
@pytest.mark.parametrize("more", [{}, {"reach": 900.0}], ids=["all around", "within reach"])
def test_a_mapped_ground_shows_what_one_in_memory_shows(
    on: str, more: dict[str, object], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    study = study_on(tmp_path, GROUNDS[on](), **more)
    expected = {ref: Engine().run_or_raise(study, ref) for ref in REFS}
    monkeypatch.setattr(mapped, "LARGE", 1000)
    monkeypatch.setattr(mapped, "_BLOCK", 20_000)
    for ref in REFS:
        found = Engine().run_or_raise(study, ref)
        assert mapped.map_of(cells_of(found.value)) is not None, ref
        np.testing.assert_array_equal(cells_of(found.value), cells_of(expected[ref].value), ref)
        assert found.findings == expected[ref].findings and found.warnings == expected[ref].warnings


def test_a_run_in_tiles_maps_what_memory_cannot_hold(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    study = study_on(tmp_path, GROUNDS["oblong cells, holes, feet"]())
    expected = {"which": Engine().run_or_raise(study, "which")}
    monkeypatch.setattr(mapped, "LARGE", 1000)
    for written in in_tiles(study, ["which"], tmp_path / "work", 256 * 256):
        assert written.outcome is not None
        assert mapped.map_of(cells_of(written.outcome.value)) is not None, written.ref
        np.testing.assert_array_equal(cells_of(written.outcome.value), cells_of(expected[written.ref].value))
        assert_said_alike(written, expected[written.ref], 1e-12)
        assert_cells_alike(written, expected[written.ref], 0.0)


def test_counted_areas_are_those_of_the_cells() -> None:
    rng = np.random.default_rng(5)
    counts = in_degrees(rng.integers(0, 6, (70, 90)).astype(np.float32), 65.0)
    counts = replace(counts, values=np.where(rng.random((70, 90)) < 0.2, np.float32(np.nan), counts.values))
    cells, areas = viewshed.counted_areas(counts, 4)
    for k in range(5):
        hit = counts.values >= 4 if k == 4 else counts.values == k
        assert cells[k] == hit.sum()
        assert areas[k] == pytest.approx((hit * counts.frame.row_areas[:, None]).sum(), rel=1e-12)


def test_no_room_on_the_disk_is_said_before_anything_is_worked_out(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    study = study_on(tmp_path, GROUNDS["oblong cells, holes, feet"]())
    monkeypatch.setattr(mapped, "LARGE", 1000)
    ground = Engine().run_or_raise(study, "ground")
    monkeypatch.setattr(mapped, "room_to_map", lambda: 0)
    with pytest.raises(MossError, match="has no room for"):
        mapped.grid_beside(cells_of(ground.value), np.float32)


def test_nobody_is_told_of_where_there_is_no_ground(tmp_path: Path) -> None:
    study = study_on(tmp_path, GROUNDS["oblong cells, holes, feet"]())
    ground = Engine().run_or_raise(study, "ground")
    codes = cells_of(Engine().run_or_raise(study, "which").value)
    gone = np.isnan(cells_of(ground.value))
    assert gone.any() and (codes[gone] == NO_CLASS).all() and (codes[~gone] != NO_CLASS).all()
