"""Local steps on grounds that are mapped from files: band by band, with results that are mapped, too."""

from pathlib import Path

import numpy as np
import pytest

from moss_step.formats.raster import read_surface
from moss_step.formats.raster_write import write_surface
from moss_step.kinds.registry import kind_of
from moss_step.model import mapped
from moss_step.model.errors import MossError
from moss_step.model.mapped import held_bytes, let_go, map_of
from moss_step.model.outcome import Outcome
from moss_step.model.progress import silent
from moss_step.model.surface import Surface
from moss_step.model.units import CELLS
from moss_step.scene.kinds.surface import SurfacePicture
from moss_step.scene.pictures import picture_of
from moss_step.study import declared
from moss_step.study.declared import run_declared
from moss_step.study.shelf import Shelf
from tests.cases import KINDS, as_is, given_for, inputs_for
from tests.grounds import GROUNDS, metric, relief
from tests.steps.test_reach import LOCAL, RUNNING


@pytest.mark.parametrize("on", ["degrees at 65 north", "small relief on a large base"])
@pytest.mark.parametrize("name", LOCAL)
def test_bands_give_what_one_piece_gives(name: str, on: str, monkeypatch: pytest.MonkeyPatch) -> None:
    kind, ground = KINDS[name], GROUNDS[on]
    given = given_for(kind, as_is(ground), ground)
    if name == "classify":
        middle = float(np.nanmedian(ground.values))
        rows = ((None, middle, 1, "low", "#112233"), (middle, None, 2, "high", "#445566"))
        given["rules"] = [dict(zip(("low", "high", "code", "name", "color"), r, strict=True)) for r in rows]
    inputs = inputs_for(kind, ground, as_is(ground))
    whole = run_declared(kind, given, inputs, silent())
    monkeypatch.setattr(declared, "too_large", lambda _: True)
    monkeypatch.setattr(declared, "_BAND", 5 * ground.frame.cols)
    bands = run_declared(kind, given, inputs_for(kind, ground, as_is(ground)), silent())
    ours, theirs = (kind_of(v).array(v) for v in (bands.value, whole.value))
    assert map_of(ours) is not None
    assert bands.value.nbytes == 0 or kind_of(bands.value).name == "classes"
    assert bands.value.frame == whole.value.frame
    if name in RUNNING:
        np.testing.assert_allclose(ours, theirs, rtol=1e-4, atol=1e-4)
    else:
        np.testing.assert_array_equal(ours, theirs)
    assert set(bands.warnings) == set(whole.warnings)
    told = {(f.name, f.of): f.value for f in bands.findings}
    for finding in whole.findings:
        np.testing.assert_allclose(
            told[(finding.name, finding.of)],
            finding.value,
            rtol=1e-5 if name in RUNNING else 1e-9,
            err_msg=finding.name,
        )


@pytest.mark.parametrize("on", ["holes and a rim of no-data", "small relief on a large base"])
def test_a_grid_too_large_for_memory_is_mapped_and_drawn(
    on: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    ground = GROUNDS[on]
    write_surface(tmp_path / "g.tif", ground, on)
    expected, _ = read_surface(tmp_path / "g.tif")
    drawn = picture_of(expected)
    for module in ("formats.raster", "scene.grids"):
        monkeypatch.setattr(f"moss_step.{module}.too_large", lambda _: True)
    monkeypatch.setattr("moss_step.scene.grids.SMALLEST", 4)
    surface, _ = read_surface(tmp_path / "g.tif")
    assert map_of(surface.values) is not None
    assert held_bytes(surface.values) == surface.nbytes == 0
    let_go(surface.values)
    np.testing.assert_array_equal(surface.values, expected.values)
    assert surface.summary == expected.summary
    picture = picture_of(surface)
    assert len(picture.levels) > len(drawn.levels)
    assert all(map_of(level) is not None for level in picture.levels[1:])
    np.testing.assert_array_equal(picture.levels[0], drawn.levels[0])
    monkeypatch.setattr("moss_step.scene.grids.too_large", lambda _: False)
    for ours, theirs in zip(picture.levels, picture_of(surface).levels, strict=True):
        np.testing.assert_array_equal(ours, theirs)


def test_a_disk_without_room_is_said(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    write_surface(tmp_path / "g.tif", GROUNDS["square cells"], "g")
    monkeypatch.setattr("moss_step.model.mapped.too_large", lambda _: True)
    monkeypatch.setattr("moss_step.model.mapped.room_to_map", lambda: 10)
    monkeypatch.setattr("moss_step.model.memory.free_memory", lambda: 10)
    with pytest.raises(MossError, match="box="):
        read_surface(tmp_path / "g.tif")


def test_a_tile_of_a_larger_ground_is_not_cut_again(monkeypatch: pytest.MonkeyPatch) -> None:
    """It would be levelled by its own mean, and not by that of the whole."""
    ground = GROUNDS["small relief on a large base"]
    kind, seen = KINDS["slope"], list[int]()
    part = ground.part_of(4000.0)
    monkeypatch.setattr(declared, "too_large", lambda _: True)
    monkeypatch.setattr(declared, "room_for", lambda *_: seen.append(1))
    run_declared(kind, {}, {"dem": part}, silent())
    assert seen == []
    assert not ground.is_part  # what is given stays as it was
    assert (part.base, ground.base) == (4000.0, ground.base)


def test_a_grid_that_lies_in_a_file_already_is_not_written_to_disk_again(
    monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    """Read back it would stand in memory, which it was too large for."""
    monkeypatch.setattr(mapped, "LARGE", 1000)
    ground = metric(relief(3, 60, 70))
    write_surface(tmp_path / "ground.tif", ground, "ground")
    value, _ = read_surface(tmp_path / "ground.tif")
    assert mapped.map_of(value.values) is not None
    assert not Shelf(tmp_path / "kept").write("key", Outcome(value, "", ()))
    assert Shelf(tmp_path / "kept").write("key", Outcome(ground, "", ()))


def test_a_picture_of_a_mapped_accumulation_takes_no_memory_for_its_logarithms(
    monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    monkeypatch.setattr(mapped, "LARGE", 1000)
    values = np.random.default_rng(1).lognormal(3.0, 2.0, (60, 70)).astype(np.float32)
    value = Surface(values, metric(values).frame, CELLS, "accumulation")
    write_surface(tmp_path / "flow.tif", value, "flow")
    there, _ = read_surface(tmp_path / "flow.tif")
    picture = picture_of(there)
    assert isinstance(picture, SurfacePicture) and picture.logarithmic
    assert map_of(picture.levels[0]) is not None
    np.testing.assert_array_equal(picture.levels[0], np.log10(np.maximum(values, np.float32(1e-3))))
