"""Contours traced tile by tile against those of one piece: the same lines in the same order."""

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from moss_step.formats.raster_write import write_surface
from moss_step.model.errors import MossError
from moss_step.model.surface import Surface
from moss_step.model.units import FOOT
from moss_step.science.relief import contour_tracing, contours
from moss_step.study.graph import Step, Study
from tests.grounds import holed, in_degrees, metric, relief
from tests.large.held import assert_said_alike, assert_shapes_alike, both_ways, in_tiles

ROWS, COLS = 330, 610
GROUNDS = {
    "holes, cells four times as high as wide": lambda: metric(holed(relief(3, ROWS, COLS)), 5.0, 20.0),
    "degrees at 65 north, mirrored": lambda: in_degrees(relief(4, ROWS, COLS)[:, ::-1].copy(), 65.0),
    "feet, whole numbers": lambda: replace(metric(np.round(relief(6, ROWS, COLS))), unit=FOOT),
    "small relief on a large base": lambda: Surface(
        4000.0 + relief(5, ROWS, COLS) * 1e-4,
        metric(relief(5, ROWS, COLS)).frame,
        metric(relief(5, 9, 9)).unit,
    ),
}


def study_on(source: Path, *settings: dict[str, object]) -> Study:
    return Study(
        steps=(
            Step(id="ground", kind="open_grid", settings={"source": str(source)}),
            *(
                Step(id=f"lines{n}", kind="contours", inputs={"dem": "ground"}, settings=some)
                for n, some in enumerate(settings)
            ),
        )
    )


@pytest.mark.parametrize("on", GROUNDS)
def test_tiles_trace_what_one_piece_traces(on: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(contour_tracing, "BAND_CELLS", 40 * COLS)  # several bands on a small ground
    ground: Surface = GROUNDS[on]()
    low, high = ground.range or (0.0, 0.0)
    write_surface(tmp_path / "ground.tif", ground, on)
    step = (high - low) / 9.0
    study = study_on(
        tmp_path / "ground.tif",
        {"interval": step, "base": step / 3.0, "index_every": 3},
        {"levels": f"{low + step / 2}, {low + step * 4.1}, {high + 1.0}"},
        {"interval": step * 2.0, "within": 8.0},
        {"interval": step * 2.0, "smooth": True},
    )
    targets = [s.id for s in study.steps[1:]]
    for written, expected in both_ways(study, targets, tmp_path / "work", 512 * 512):
        assert_said_alike(written, expected, 1e-12)
        assert_shapes_alike(written, expected, 1e-12)


def test_too_many_lines_and_none_are_refused_as_in_one_piece(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    write_surface(tmp_path / "ground.tif", metric(relief(3, ROWS, COLS)), "ground")
    monkeypatch.setattr(contours, "MANY_POINTS", 1000)
    asked = ({"interval": 1.0}, {"interval": 1e5, "base": -5.0}, {"levels": "99999"})
    study = study_on(tmp_path / "ground.tif", *asked)
    said = ("takes long", "with an interval of 100000", "It runs from")
    for step, words in zip(study.steps[1:], said, strict=True):
        with pytest.raises(MossError, match=words):
            list(in_tiles(study, [step.id], tmp_path / "work", 512 * 512))
