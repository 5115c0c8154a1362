"""Steps that look at a part of a large ground alone: only that is read, and gives what the whole would give."""

from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import shapely

from moss_step.formats.raster_write import write_surface
from moss_step.formats.vector import write_shapes
from moss_step.large import running
from moss_step.large.crew import Alone
from moss_step.large.jobs import left_on_disk
from moss_step.large.running import LargeRun
from moss_step.model import mapped
from moss_step.model.progress import silent
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.units import FOOT
from moss_step.study.declared import PART_READ
from moss_step.study.engine import Engine
from moss_step.study.graph import Step, Study
from tests.grounds import holed, in_degrees, metric, relief

ROWS, COLS = 400, 700
GROUNDS = {
    "holes, oblong cells, feet": lambda: replace(metric(holed(relief(3, ROWS, COLS)), 4.0, 1.0), unit=FOOT),
    "degrees at 65 north, mirrored": lambda: in_degrees(relief(4, ROWS, COLS)[:, ::-1].copy(), 65.0),
}


def study_on(folder: Path, ground: Surface) -> Study:
    """Outlines in a corner of the ground, one of them over its edge, and a line across them."""
    write_surface(folder / "ground.tif", ground, "ground")
    frame = ground.frame
    wide, high = 60 * frame.dx, 50 * frame.dy
    x, y = frame.x0, frame.y0 - 120 * frame.dy
    areas = [
        shapely.box(x - wide / 2, y, x + wide, y + high),
        shapely.box(x + wide, y - high, x + 2.3 * wide, y),
    ]
    names = np.array(["over the edge", "inside"], object)
    write_shapes(folder / "areas.gpkg", Shapes(np.array(areas), {"name": names}, frame.crs), "areas")
    line = (x + wide * 0.3, y - high * 0.2, x + wide * 1.9, y + high * 0.7)
    candidates = [
        (x + wide * far, y + high * up) for far, up in ((0.2, 0.4), (1.6, -0.5), (2.0, 0.6), (0.5, -0.9))
    ]
    return Study(
        steps=(
            Step(id="ground", kind="open_grid", settings={"source": str(folder / "ground.tif")}),
            Step(id="areas", kind="open_shapes", settings={"source": str(folder / "areas.gpkg")}),
            Step(id="moved", kind="cut_fill", inputs={"surface": "ground", "area": "areas"}, settings={"against": "plane"}),
            Step(id="even", kind="balance", inputs={"surface": "ground", "area": "areas"}, settings={"shrink": 0.9}),
            Step(id="profile", kind="profile", inputs={"surface": "ground"}, settings={"line": line}),
            Step(id="sight", kind="sight_line", inputs={"dem": "ground"}, settings={"ends": line}),
            Step(id="middle", kind="zone_statistics", inputs={"zones": "areas", "surface": "ground"},
                 settings={"statistics": "median,p90", "weighting": "coverage"}),
            Step(id="best", kind="best_places", inputs={"dem": "ground", "area": "areas"},
                 settings={"at": candidates, "count": 2, "observer_height": 3.0}),
        )
    )  # fmt: skip


def assert_alike(ours: Any, theirs: Any, ref: str) -> None:
    for name, column in theirs.columns.items():
        own = ours.columns[name]
        if name in ("reckoned", "cell"):
            continue  # the time of day; the size of a cell in the middle of what was read
        if column.dtype.kind in "fiu":
            np.testing.assert_allclose(own, column, rtol=1e-6, atol=1e-6, err_msg=f"{ref} {name}")
        else:
            assert own.tolist() == column.tolist(), (ref, name)


REFS = "moved.outlines", "moved.corners", "even.curve", "even.outlines", "profile", "sight", "middle", "best"


@pytest.mark.parametrize("on", GROUNDS)
def test_a_run_in_tiles_reads_only_what_lies_around(
    on: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    study = study_on(tmp_path, GROUNDS[on]())
    whole, read = Engine(), list[tuple[slice, slice]]()
    taken_over = running.taken_over
    monkeypatch.setattr(running, "taken_over", lambda h, w, *a: read.append(w) or taken_over(h, w, *a))
    (tmp_path / "work").mkdir()
    run = LargeRun(
        study, Engine(), Alone(), tmp_path / "work", left_on_disk(study, study.steps, True), 512 * 512
    )
    found = {w.ref: w for w in run.results([*REFS, "moved", "even"], silent())}
    assert read and all(r.stop - r.start < 200 and c.stop - c.start < 200 for r, c in read)
    for ref in REFS:
        expected, outcome = whole.run_or_raise(study, ref), found[ref].outcome
        assert outcome is not None
        assert_alike(outcome.value, expected.value, ref)
        told = {(f.name, f.of): f.value for f in outcome.findings}
        for f in expected.findings:
            assert told[(f.name, f.of)] == pytest.approx(f.value, rel=1e-6, abs=1e-6)
    assert PART_READ in found["moved"].warnings


def test_mapped_grounds_are_cut_to_what_lies_around(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    study = study_on(tmp_path, GROUNDS["holes, oblong cells, feet"]())
    expected = Engine().run_or_raise(study, "moved")
    monkeypatch.setattr(mapped, "LARGE", 1000)
    found = Engine().run_or_raise(study, "moved")
    part, all_of = found.of(Surface), expected.of(Surface)
    assert part is not None and all_of is not None
    assert part.frame.rows < 200 < all_of.frame.rows and PART_READ in found.warnings
    assert np.count_nonzero(~np.isnan(part.values)) == np.count_nonzero(~np.isnan(all_of.values))
    assert float(np.nansum(part.values)) == pytest.approx(float(np.nansum(all_of.values)), rel=1e-6)


def test_a_line_beside_the_ground_is_refused_as_on_a_small_one(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    study = study_on(tmp_path, GROUNDS["holes, oblong cells, feet"]())
    away = study.step("profile").model_copy(update={"settings": {"line": (0.0, 0.0, 10.0, 10.0)}})
    study = Study(steps=(study.steps[0], away))
    monkeypatch.setattr(mapped, "LARGE", 1000)
    engine = Engine()
    engine.run(study, ["profile"])
    failed = engine.failure(study, "profile")
    assert failed is not None and "does not meet the surface" in failed.reason
