"""Areas and patches of classes tile by tile against those in one piece."""

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from moss_step.formats.raster_write import write_surface
from moss_step.model.errors import MossError
from moss_step.model.frame import Frame
from moss_step.model.surface import Surface
from moss_step.model.units import COUNT, PERCENT
from moss_step.science.zones import outlines
from moss_step.study.engine import Engine
from moss_step.study.graph import Step, Study
from tests.grounds import first, in_degrees, metric, relief
from tests.large.held import assert_said_alike, assert_shapes_alike, both_ways, in_tiles

ROWS, COLS = 620, 1130


def slopes_on(frame: Frame, seed: int) -> Surface:
    """Percents with ragged edges between classes: holes, islands, and parts that only meet at corners, across
    all rims.
    """
    rng = np.random.default_rng(seed)
    z = relief(seed, ROWS, COLS)
    values = (z - z.min()) / np.ptp(z) * 20.0 + rng.normal(size=(ROWS, COLS))
    values[rng.random(values.shape) < 0.02] = np.nan
    values[505:530, :] = np.nan
    values[508:518, 3:1128] = 1.0
    return Surface(np.maximum(values, 0.0).astype(np.float32), frame, PERCENT, "slope")


GROUNDS = {
    "square cells": lambda: metric(np.zeros((ROWS, COLS))).frame,
    "cells four times as wide as high": lambda: metric(np.zeros((ROWS, COLS)), 0.4, 0.1).frame,
    "degrees at 65 north": lambda: in_degrees(np.zeros((ROWS, COLS)), 65.0).frame,
}


def study_on(source: Path) -> Study:
    fed = {"classes": "map"}
    return Study(
        steps=(
            Step(id="slope", kind="open_grid", settings={"source": str(source)}),
            Step(id="map", kind="classify", inputs={"surface": "slope"}, settings={"rules": "fao_slope"}),
            Step(id="areas", kind="polygonize", inputs=fed),
            Step(id="four", kind="patches", inputs=fed, settings={"neighbours": 4, "least_cells": 3}),
            Step(id="eight", kind="patches", inputs=fed),
        )
    )


@pytest.mark.parametrize(
    ("on", "mirrored"),
    [
        pytest.param("square cells", False, marks=pytest.mark.thorough),
        ("cells four times as wide as high", False),
        ("degrees at 65 north", False),
        ("cells four times as wide as high", True),
    ],
)
def test_tiles_outline_what_one_piece_outlines(on: str, mirrored: bool, tmp_path: Path) -> None:
    slope = slopes_on(GROUNDS[on](), 5)
    if mirrored:
        slope = replace(slope, values=np.ascontiguousarray(slope.values[::-1, ::-1]))
    write_surface(tmp_path / "slope.tif", slope, on)
    study, targets = study_on(tmp_path / "slope.tif"), ["areas", "four", "eight"]
    for written, expected in both_ways(study, targets, tmp_path / "work", 4 * 512 * 512):
        assert_said_alike(written, expected, 1e-9)
        assert_shapes_alike(written, expected, 1e-9)


@pytest.mark.parametrize("on", first(GROUNDS, "cells four times as wide as high", "degrees at 65 north"))
def test_tiles_find_the_ground_that_nobody_sees_as_one_piece_does(
    on: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    slope = slopes_on(GROUNDS[on](), 6)
    counts = np.floor(slope.values * 0.2).astype(np.float32)  # nobody, one or some see it; unknown in places
    write_surface(tmp_path / "seen.tif", Surface(counts, slope.frame, COUNT, "seen"), on)
    opened = Step(id="seen", kind="open_grid", settings={"source": str(tmp_path / "seen.tif")})
    more = {"inputs": {"seen": "seen"}}
    blind = (
        Step(id=f"least-{n}", kind="blind_patches", settings={"least_cells": n}, **more) for n in (1, 10)
    )
    study = Study(steps=(opened, *blind))
    whole = {ref: Engine().run_or_raise(study, ref) for ref in ("least-1", "least-10")}

    def in_one_piece(*_: object) -> None:
        raise AssertionError("it was not done in tiles")

    monkeypatch.setattr(outlines, "patches", in_one_piece)
    for written in in_tiles(study, list(whole), tmp_path / "work", 4 * 512 * 512):
        assert_said_alike(written, whole[written.ref], 1e-9)
        assert_shapes_alike(written, whole[written.ref], 1e-9)
    assert len(whole["least-1"].value) > len(whole["least-10"].value) > 20


def test_no_class_and_no_patch_are_refused_as_in_one_piece(tmp_path: Path) -> None:
    empty = metric(np.full((ROWS, COLS), np.nan))
    write_surface(tmp_path / "slope.tif", replace(empty, unit=PERCENT, quantity="slope"), "empty")
    for target, said in (("areas", "No cell has a class"), ("four", "No patch has 3 cells")):
        with pytest.raises(MossError, match=said):
            list(in_tiles(study_on(tmp_path / "slope.tif"), [target], tmp_path / "work", 4 * 512 * 512))
