"""Coarse looks at large grids, before all of one is read."""

import os
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
import rasterio
from rasterio.enums import Resampling

from moss_step.formats import overviews
from moss_step.formats.raster_write import write_surface
from moss_step.formats.windows import GridReader, GridSource
from moss_step.model.errors import StoppedError
from moss_step.model.progress import Progress, silent
from moss_step.model.surface import Surface
from tests.grounds import holed, metric, relief

ROWS, COLS = 450, 640


@pytest.fixture(autouse=True)
def small(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> Path:
    """Grids count as large from few cells, and the cache is this folder."""
    monkeypatch.setattr(overviews, "LARGE", 1000)
    monkeypatch.setattr(overviews, "SIDE", 64)
    monkeypatch.setattr(overviews, "overview_folder", lambda: tmp_path / "looks")
    return tmp_path / "looks"


def ground_in(path: Path, flip: bool = False) -> Surface:
    """A plain tiled file without coarser copies; ``flip`` has its rows from the south and columns from the
    east.
    """
    surface = metric(holed(relief(4, ROWS, COLS)), 4.0, 3.0)
    frame = surface.frame
    values = surface.values[::-1, ::-1] if flip else surface.values
    transform = rasterio.transform.from_origin(frame.x0, frame.y0, frame.dx, frame.dy)
    if flip:
        transform = rasterio.Affine(
            -frame.dx, 0, frame.x0 + COLS * frame.dx, 0, frame.dy, frame.y0 - ROWS * frame.dy
        )
    with rasterio.open(
        path, "w", driver="GTiff", height=ROWS, width=COLS, count=1, dtype="float32", crs=frame.crs,
        transform=transform, nodata=-9999.0, tiled=True, blockxsize=128, blockysize=128,
    ) as file:  # fmt: skip
        file.write(np.where(np.isnan(values), np.float32(-9999), values), 1)
    return surface


@pytest.mark.parametrize("flip", [False, True])
def test_a_look_holds_cells_of_the_ground_where_they_lie(flip: bool, tmp_path: Path) -> None:
    ground = ground_in(tmp_path / "ground.tif", flip)
    look = overviews.coarse_look(GridSource(tmp_path / "ground.tif"), silent())
    assert look is not None and look.frame.shape == (45, 64)
    assert look.frame.box == pytest.approx(ground.frame.box)
    assert look.unit == GridSource(tmp_path / "ground.tif").measured_in
    for row, col in np.ndindex(look.frame.shape):
        block = ground.values[row * 10 : row * 10 + 10, col * 10 : col * 10 + 10]
        value = look.values[row, col]
        assert np.isnan(block).any() if np.isnan(value) else value in block


def test_it_is_read_of_the_copies_that_a_file_holds_and_not_kept(tmp_path: Path, small: Path) -> None:
    ground_in(tmp_path / "ground.tif")
    with rasterio.open(tmp_path / "ground.tif", "r+") as file:
        file.build_overviews([2, 4, 8], Resampling.nearest)
        file.write(np.full((ROWS, COLS), 7.0, np.float32), 1)  # so that the copies are told from it
    look = overviews.coarse_look(GridSource(tmp_path / "ground.tif"), silent())
    assert look is not None and not (look.values == 7.0).any()
    assert not small.exists()


def test_what_was_read_is_kept_until_the_file_changes(
    tmp_path: Path, small: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    path = tmp_path / "ground.tif"
    ground = ground_in(path)
    first = overviews.coarse_look(GridSource(path), silent())
    read = list[object]()
    monkeypatch.setattr(
        GridReader, "read", lambda self, *a, _read=GridReader.read: read.append(a) or _read(self, *a)
    )
    again = overviews.coarse_look(GridSource(path), silent())
    assert first is not None and again is not None and not read
    np.testing.assert_array_equal(first.values, again.values)
    write_surface(path, replace(ground, values=ground.values + 500.0), "higher")
    os.utime(path, ns=(1, 1))
    changed = overviews.coarse_look(GridSource(path), silent())
    assert changed is not None and np.nanmean(changed.values) > np.nanmean(first.values) + 400.0
    (kept,) = [p for p, _ in overviews.overviews()][:1]
    whole = kept.read_bytes()
    for damaged in (whole[:50], whole[:-4], whole.replace(b"[45, 64]", b"[45000000, 64]"), b""):
        kept.write_bytes(damaged)
        assert overviews._kept(kept, (45, 64)) is None
    overviews.clear_overviews()
    assert overviews.overviews() == []


def test_small_grids_are_read_at_once(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    ground_in(tmp_path / "ground.tif")
    monkeypatch.setattr(overviews, "LARGE", ROWS * COLS + 1)
    assert overviews.coarse_look(GridSource(tmp_path / "ground.tif"), silent()) is None


def test_a_cache_that_cannot_be_written_does_not_keep_anybody_from_looking(
    tmp_path: Path, small: Path, caplog: pytest.LogCaptureFixture
) -> None:
    ground_in(tmp_path / "ground.tif")
    small.write_text("a file stands where the folder should")
    assert overviews.coarse_look(GridSource(tmp_path / "ground.tif"), silent()) is not None
    assert "was not kept" in caplog.text


def test_it_can_be_stopped(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    ground_in(tmp_path / "ground.tif")
    monkeypatch.setattr(overviews, "_ROWS", 4)
    progress = Progress()
    progress.stop()
    with pytest.raises(StoppedError):
        overviews.coarse_look(GridSource(tmp_path / "ground.tif"), progress)
