"""Voids too large for a margin, tile by tile, against those of one piece."""

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
import rasterio
from scipy import ndimage

from moss_step.formats.raster_write import write_surface
from moss_step.large import voids
from moss_step.large.crew import Alone
from moss_step.large.hands import workers_here
from moss_step.large.jobs import left_on_disk
from moss_step.large.running import LargeRun
from moss_step.model.progress import silent
from moss_step.model.units import BEARING, FOOT
from moss_step.steps.voids import NO_VOID
from moss_step.study.engine import Engine
from moss_step.study.graph import Step, Study
from tests.grounds import in_degrees, metric, relief
from tests.large.held import Ending, assert_cells_alike, assert_said_alike, both_ways, damage, in_tiles

ROWS, COLS, TILE = 1100, 1150, 512 * 512


def with_lakes(values: np.ndarray) -> np.ndarray:
    """Lakes inside tiles, over one rim and over the corner where four tiles meet, an island in one of these, a
    river over three rims that is one cell wide, some at the edge, and many of a few cells.
    """
    made, dice = values.copy(), np.random.default_rng(31)
    for r, c in zip(dice.integers(0, ROWS, 300), dice.integers(0, COLS, 300), strict=True):
        made[r : r + 3, c : c + 4] = np.nan
    made[490:560, 480:555] = np.nan  # where four tiles meet
    made[500:530, 500:530] = values[500:530, 500:530]  # an island, with a pond of its own over the corner
    made[508:516, 507:517] = np.nan
    made[60:110, 60:120] = np.nan
    made[200:230, 490:530] = made[1010:1040, 300:340] = np.nan
    r, c = np.arange(700, 1060), np.arange(800, 1160)[: 1149 - 800]
    made[900, c], made[r, 900] = np.nan, np.nan
    made[0:40, 700:760] = made[600:660, 1120:] = np.nan  # these stay
    made[800:1000, 100:400] = np.nan  # too large
    return made


GROUNDS = {
    "cells four times as wide as high, feet": lambda: replace(
        metric(with_lakes(relief(6, ROWS, COLS)), 20.0, 5.0), unit=FOOT
    ),
    "degrees at 65 north, mirrored": lambda: in_degrees(with_lakes(relief(7, ROWS, COLS))[:, ::-1], 65.0),
    "small relief on a large base": lambda: replace(
        metric(relief(9, ROWS, COLS)), values=4000.0 + with_lakes(relief(9, ROWS, COLS)) * 1e-4
    ),
    "bearings": lambda: replace(
        metric(with_lakes(relief(8, ROWS, COLS) * 7.0 % 360.0), 5.0, 20.0), unit=BEARING, quantity="aspect"
    ),
}
MOST = 20_000


def study_on(source: Path, most: int = MOST) -> Study:
    filled = Step(id="filled", kind="fill_voids", inputs={"surface": "ground"}, settings={"most_cells": most})
    return Study(steps=(Step(id="ground", kind="open_grid", settings={"source": str(source)}), filled))


@pytest.fixture
def source(tmp_path: Path) -> Path:
    write_surface(tmp_path / "ground.tif", GROUNDS["cells four times as wide as high, feet"](), "ground")
    return tmp_path / "ground.tif"


@pytest.mark.parametrize(
    ("on", "at_once"),
    [
        *((on, 10**6) for on in GROUNDS),
        ("degrees at 65 north, mirrored", 3000),
        *(pytest.param(on, 3000, marks=pytest.mark.thorough) for on in list(GROUNDS)[2:]),
    ],
)
def test_tiles_fill_what_one_piece_fills(
    on: str, at_once: int, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(voids, "_AT_ONCE", at_once)
    write_surface(tmp_path / "ground.tif", GROUNDS[on](), on)
    ((written, expected),) = both_ways(study_on(tmp_path / "ground.tif"), ["filled"], tmp_path / "work", TILE)
    assert_said_alike(written, expected, 1e-7)
    assert_cells_alike(written, expected, 0.0)
    told = {f.name: f.value for f in written.findings}
    assert told["voids_filled"] > 250 and told["cells_filled"] > 5000 + 3000 + 1200
    left = np.isnan(expected.value.values)
    assert left.sum() >= 60_000 and not left[490:560, 480:555].any()


def test_a_plane_comes_back_over_rims(tmp_path: Path) -> None:
    """The membrane gives planes back exactly (mathematics), whatever tiles its voids lie in."""
    r, c = np.mgrid[0:ROWS, 0:COLS]
    plane = 100.0 + 0.5 * r - 0.25 * c
    ground = metric(np.where(np.isnan(with_lakes(plane)), np.nan, plane), 20.0, 5.0)
    write_surface(tmp_path / "ground.tif", ground, "plane")
    (written,) = in_tiles(study_on(tmp_path / "ground.tif"), ["filled"], tmp_path / "work", TILE)
    with rasterio.open(written.file) as file:
        found = file.read(1, masked=True).filled(np.nan)
    known = ~np.isnan(found)
    assert known.sum() > (~np.isnan(ground.values)).sum() + 10_000
    np.testing.assert_allclose(found[known], plane[known], atol=1e-3)


@pytest.mark.parametrize("on", ["whole", "empty"])
def test_ground_without_voids_to_fill_is_as_it_was(on: str, tmp_path: Path) -> None:
    ground = metric(relief(5, 600, 700) if on == "whole" else np.full((600, 700), np.nan))
    write_surface(tmp_path / "ground.tif", ground, on)
    (written,) = in_tiles(study_on(tmp_path / "ground.tif"), ["filled"], tmp_path / "work", TILE)
    assert NO_VOID in written.warnings
    with rasterio.open(written.file) as file:
        np.testing.assert_array_equal(file.read(1, masked=True).filled(np.nan), ground.values)


@pytest.mark.parametrize("doing", ["Listing voids", "Filling voids"])
def test_a_run_that_ended_goes_on(doing: str, source: Path, tmp_path: Path) -> None:
    study, work = study_on(source), tmp_path / "work"
    work.mkdir()
    expected = Engine().run_or_raise(study, "filled")
    run = LargeRun(study, Engine(), Ending(doing, 1), work, left_on_disk(study, study.steps, True), TILE)
    with pytest.raises(InterruptedError):
        list(run.results(["filled"], silent()))
    (written,) = in_tiles(study, ["filled"], work, TILE)
    assert_said_alike(written, expected, 1e-9)
    assert_cells_alike(written, expected, 0.0)


def test_workers_fill_what_one_piece_fills(source: Path, tmp_path: Path) -> None:
    study = study_on(source)
    expected = Engine().run_or_raise(study, "filled")
    (tmp_path / "work").mkdir()
    with workers_here(2) as crew:
        grids = left_on_disk(study, study.steps, True)
        run = LargeRun(study, Engine(), crew, tmp_path / "work", grids, TILE)
        (written,) = run.results(["filled"], silent())
    assert_said_alike(written, expected, 1e-9)
    assert_cells_alike(written, expected, 0.0)


@pytest.mark.parametrize("damaged", [0, 512], ids=["above", "between"])
def test_where_the_file_is_damaged_nothing_is_made_up(damaged: int, source: Path, tmp_path: Path) -> None:
    """A tile that cannot be read stays empty, and so do voids that reach into it; all others are filled, over
    the rims of the tiles beside it, too.
    """
    study = study_on(source)
    whole = Engine().run_or_raise(study, "filled").value.values
    damage(source, damaged + 500, damaged + 500)
    (tmp_path / "work").mkdir()
    grids = left_on_disk(study, study.steps, True)
    run = LargeRun(study, Engine(), Alone(), tmp_path / "work", grids, TILE)
    (written,) = run.results(["filled"], silent())
    assert run.wrong
    with rasterio.open(written.file) as file:
        found = file.read(1, masked=True).filled(np.nan)
    own = slice(damaged, damaged + 512)
    unknown = GROUNDS["cells four times as wide as high, feet"]().values.copy()
    unknown[own, own] = np.nan
    labels, _ = ndimage.label(np.isnan(unknown))
    reach = labels == labels[own, own][0, 0]
    assert reach[490:560, 480:500].any() and not reach[1010:1040, 300:340].any()
    np.testing.assert_array_equal(found, np.where(reach, np.nan, whole))
