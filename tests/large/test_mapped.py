"""Steps that look at a whole ground, on grounds that are mapped from files, against the same in one piece."""

import os
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
import shapely

from moss_step.formats.raster_write import write_surface
from moss_step.formats.whole import passing_folder
from moss_step.kinds.registry import cells_of
from moss_step.large.crew import Alone, Crew
from moss_step.large.mapped import InTiles
from moss_step.model import mapped
from moss_step.model.errors import MossError
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.units import FOOT
from moss_step.study import declared
from moss_step.study.engine import Engine
from moss_step.study.graph import Step, Study
from tests.grounds import first, holed, in_degrees, metric, relief

ROWS, COLS = 560, 1050


def rough(seed: int) -> np.ndarray:
    return relief(seed, ROWS, COLS) + np.random.default_rng(seed).normal(size=(ROWS, COLS)) * 0.5


GROUNDS = {
    "oblong cells, holes, feet": lambda: replace(metric(holed(rough(3)), 20.0, 5.0), unit=FOOT),
    "degrees at 65 north": lambda: in_degrees(rough(4), 65.0),
    "small relief on a large base": lambda: Surface(
        4000.0 + np.round(rough(5) * 1e-4, 5), metric(rough(5)).frame, metric(rough(5)).unit
    ),
}


def study_on(source: Path, ground: Surface) -> Study:
    dem, there = {"dem": "ground"}, np.flatnonzero(~np.isnan(ground.values))
    sees = {"at": ground.frame.centres(there[[len(there) // 3]]).tolist(), "observer_height": 20.0}
    return Study(
        steps=(
            Step(id="ground", kind="open_grid", settings={"source": str(source)}),
            Step(id="slope", kind="slope", inputs=dem),
            Step(id="steep", kind="classify", inputs={"surface": "slope"}, settings={"rules": "fao_slope"}),
            Step(id="filled", kind="fill_depressions", inputs=dem),
            Step(id="cells", kind="flow_accumulation", inputs=dem),
            Step(id="streams", kind="streams", inputs=dem, settings={"min_area": 90_000.0}),
            Step(id="basins", kind="basins", inputs=dem),
            Step(id="patches", kind="patches", inputs={"classes": "steep"}, settings={"least_cells": 9}),
            Step(id="seen", kind="viewshed", inputs=dem, settings=sees),
            Step(id="angle", kind="horizon_angle", inputs=dem, settings={**sees, "reach": 900.0}),
        )
    )


@pytest.fixture
def large(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> list[Path]:
    """Grids count as too large for memory; what is asked of the crew is listed."""
    monkeypatch.setattr(mapped, "LARGE", 1000)
    monkeypatch.setattr(declared, "too_large", lambda _: True)
    return []


def engine_in_tiles(asked: list[Path], place: Path) -> Engine:
    @contextmanager
    def hands(folder: Path) -> Iterator[Crew]:
        asked.append(folder)
        yield Alone()

    return Engine(in_tiles=InTiles(hands, lambda: place, 4 * 512 * 512))


@pytest.mark.parametrize("on", first(GROUNDS, "oblong cells, holes, feet"))
def test_mapped_grounds_give_what_one_piece_gives(on: str, tmp_path: Path, large: list[Path]) -> None:
    ground = GROUNDS[on]()
    write_surface(tmp_path / "ground.tif", ground, on)
    study = study_on(tmp_path / "ground.tif", ground)
    (tmp_path / "place").mkdir()
    tiles, whole = engine_in_tiles(large, tmp_path / "place"), Engine()
    for ref in ("filled", "cells", "streams", "streams.nodes", "basins", "patches", "seen", "angle"):
        ours, theirs = tiles.run_or_raise(study, ref), whole.run_or_raise(study, ref)
        assert set(ours.warnings) == set(theirs.warnings)
        assert {(f.name, f.unit, f.of) for f in ours.findings} == {
            (f.name, f.unit, f.of) for f in theirs.findings
        }
        shapes = ours.of(Shapes)
        if shapes is None:
            np.testing.assert_array_equal(cells_of(ours.value), cells_of(theirs.value), ref)
            assert mapped.map_of(cells_of(ours.value)) is not None
            assert ref == "filled" or ours.figure == theirs.figure
        else:
            expected = theirs.of(Shapes)
            assert expected is not None
            assert shapely.equals_exact(shapes.geometry, expected.geometry, 1e-9).all(), ref
    (own,) = (tmp_path / "place").iterdir()
    assert len(large) == 8 and list(own.iterdir()) == []


def test_what_has_no_such_way_runs_as_it_always_does(tmp_path: Path, large: list[Path]) -> None:
    write_surface(tmp_path / "ground.tif", metric(rough(1)), "ground")
    study = Study(
        steps=(
            Step(id="ground", kind="open_grid", settings={"source": str(tmp_path / "ground.tif")}),
            Step(id="cut", kind="breach", inputs={"dem": "ground"}),
            Step(id="filled", kind="fill_depressions", inputs={"dem": "ground"}),
        )
    )
    engine = engine_in_tiles(large, tmp_path)
    cut = engine.run_or_raise(study, "cut").value
    np.testing.assert_array_equal(cells_of(cut), cells_of(Engine().run_or_raise(study, "cut").value))
    assert not large
    with pytest.raises(MossError, match="main result alone on a ground this large"):
        engine.run_or_raise(study, "filled.change")


def test_what_a_program_that_was_killed_left_goes_and_what_others_use_stays(tmp_path: Path) -> None:
    with passing_folder(tmp_path) as first:
        own = first.parent
        gone, held = own / ".moss-999999999-x", own / f".moss-{os.getppid()}-x"
        for folder in (gone, held):
            folder.mkdir()
            (folder / "tile.npy").write_bytes(b"1")
        with passing_folder(tmp_path) as second:
            assert not gone.exists() and held.exists() and first.exists() and second != first
        assert not second.exists()
    assert not first.exists()
    held.rename(tmp_path / "kept")
    own.rmdir()
    own.symlink_to(tmp_path / "kept")
    with pytest.raises(MossError, match="not a folder of yours"), passing_folder(tmp_path):
        pass
    assert (tmp_path / "kept" / "tile.npy").exists()
