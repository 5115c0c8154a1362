"""Grids in many files: a folder or a pattern of them is read as the one grid that they were cut from."""

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
import rasterio
from rasterio.transform import from_origin

from moss_step.formats.raster import describe, read_surface
from moss_step.formats.raster_write import write_surface
from moss_step.formats.source import files_of
from moss_step.formats.windows import GridReader, GridSource
from moss_step.large.jobs import left_on_disk
from moss_step.model.errors import MossError
from moss_step.model.surface import Surface
from moss_step.model.units import FOOT
from moss_step.steps.catalogue import opening
from moss_step.study.graph import Step, Study
from tests.grounds import holed, in_degrees, metric, relief
from tests.large.held import assert_cells_alike, assert_said_alike, both_ways

ROWS, COLS, HIGH, WIDE = 610, 700, 250, 300
GROUNDS = {
    "cells of 8 by 2 m in feet": lambda: replace(metric(holed(relief(3, ROWS, COLS)), 8.0, 2.0), unit=FOOT),
    "degrees at 65 north": lambda: in_degrees(holed(relief(4, ROWS, COLS)), 65.0),
}


def cut_up(ground: Surface, folder: Path, left_out: tuple[int, int] = (-1, -1)) -> Path:
    """A ground in files of a part each, without one of them."""
    folder.mkdir()
    for i, top in enumerate(range(0, ROWS, HIGH)):
        for j, left in enumerate(range(0, COLS, WIDE)):
            if (i, j) != left_out:
                rows, cols = slice(top, min(top + HIGH, ROWS)), slice(left, min(left + WIDE, COLS))
                part = replace(
                    ground, values=ground.values[rows, cols].copy(), frame=ground.frame.part(rows, cols)
                )
                write_surface(folder / f"part_{i}_{j}.tif", part, "part")
    return folder


@pytest.mark.parametrize("on", GROUNDS)
@pytest.mark.parametrize("name", ["", "part_*.tif"])
def test_parts_are_read_as_the_ground_that_they_were_cut_from(on: str, name: str, tmp_path: Path) -> None:
    ground = GROUNDS[on]()
    source = cut_up(ground, tmp_path / "parts") / name
    back, remarks = read_surface(source)
    assert not remarks and back.unit == ground.unit and back.quantity == ground.quantity
    np.testing.assert_array_equal(back.values, ground.values)
    assert back.frame.shape == ground.frame.shape and np.allclose(
        back.frame.box, ground.frame.box, rtol=1e-12
    )
    with GridReader(GridSource(source)) as reader:
        window = reader.read(slice(240, 520), slice(290, 620))
    np.testing.assert_array_equal(window, ground.values[240:520, 290:620])
    assert len(files_of(source)) >= 9, "a change of any part is one of the source"


def test_nothing_stands_where_a_part_is_missing(tmp_path: Path) -> None:
    ground = metric(relief(5, ROWS, COLS))
    back, _ = read_surface(cut_up(ground, tmp_path / "parts", (1, 1)))
    gap = np.zeros(ground.frame.shape, bool)
    gap[HIGH : 2 * HIGH, WIDE : 2 * WIDE] = True
    np.testing.assert_array_equal(np.isnan(back.values), gap)


def test_each_part_has_its_own_no_data_and_mask(tmp_path: Path) -> None:
    z = np.arange(3600, dtype=np.int16).reshape(60, 60)
    head = {"driver": "GTiff", "height": 60, "width": 60, "count": 1, "dtype": "int16", "crs": "EPSG:32628"}
    for k, no_data in enumerate((-9999, 77, None)):
        with rasterio.open(tmp_path / f"{k}.tif", "w", transform=from_origin(k * 600.0, 600.0, 10.0, 10.0),
                           nodata=no_data, **head) as file:  # fmt: skip
            file.write(np.where(z == 40, no_data, z) if no_data else z, 1)
            if no_data is None:
                file.write_mask(z != 40)
    values = read_surface(tmp_path)[0].values
    for k, also in enumerate((-1, 77, -1)):  # 77 stands for no-data in the second alone
        own = values[:, k * 60 : (k + 1) * 60]
        np.testing.assert_array_equal(np.isnan(own), (z == 40) | (z == also))
        assert np.array_equal(own[~np.isnan(own)], z[~np.isnan(own)])


@pytest.mark.parametrize("dtype", ["uint8", "uint16", "int16", "int32", "float32"])
@pytest.mark.parametrize("stated", [(None, None), (0, None), (0, 255), (float("nan"), 7), (7, 7)])
def test_no_value_of_one_part_is_no_data_of_another(
    dtype: str, stated: tuple[float | None, float | None], tmp_path: Path
) -> None:
    """Nor is any value where none is stated, though a gap is left beside them."""
    if stated[0] != stated[0] and not dtype.startswith("float"):
        pytest.skip("whole numbers have no such value")
    z = np.arange(256, dtype=dtype).reshape(16, 16)
    head = {"driver": "GTiff", "height": 16, "width": 16, "count": 1, "dtype": dtype, "crs": "EPSG:32628"}
    for k, no_data in enumerate(stated):
        with rasterio.open(tmp_path / f"{k}.tif", "w", transform=from_origin(k * 320.0, 160.0, 10.0, 10.0),
                           nodata=no_data, **head) as file:  # fmt: skip
            file.write(z, 1)
    values = read_surface(tmp_path)[0].values
    assert np.isnan(values[:, 16:32]).all(), "the gap"
    for k, no_data in enumerate(stated):
        own = values[:, 32 * k : 32 * k + 16]
        np.testing.assert_array_equal(own, np.where(z == no_data, np.nan, z) if no_data is not None else z)


def test_where_parts_overlap_the_later_name_stands_where_it_has_a_value(tmp_path: Path) -> None:
    head = {"driver": "GTiff", "height": 4, "width": 4, "count": 1, "dtype": "float32", "nodata": -1.0,
            "crs": "EPSG:32628", "transform": from_origin(0.0, 40.0, 10.0, 10.0)}  # fmt: skip
    for name, values in (
        ("a.tif", np.full((4, 4), 3.0)),
        ("b.tif", np.array([[5.0, -1.0]] * 4).repeat(2, axis=1)),
    ):
        with rasterio.open(tmp_path / name, "w", **head) as file:
            file.write(values, 1)
    np.testing.assert_array_equal(read_surface(tmp_path)[0].values, [[5.0, 5.0, 3.0, 3.0]] * 4)


def test_parts_in_netcdf_are_refused(tmp_path: Path) -> None:
    write_surface(tmp_path / "a.nc", metric(relief(5)), "a")
    with pytest.raises(MossError, match="NetCDF is not read in a virtual grid"):
        describe(tmp_path / "*.nc")


@pytest.mark.parametrize(
    ("change", "why"),
    [
        ({"crs": "EPSG:32629"}, "another reference system"),
        ({"transform": from_origin(600.0, 600.0, 5.0, 5.0)}, "its cells are 5 by 5, not 10 by 10"),
        ({"transform": from_origin(605.0, 600.0, 10.0, 10.0)}, "do not lie on those of the first"),
        ({"dtype": "float32"}, "its values are float32, not int16"),
        ({"count": 2}, "2 bands"),
        ({"transform": from_origin(600.0, 600.0, 10.0, -10.0)}, "from north to south"),
    ],
)
def test_a_part_that_does_not_go_with_the_others_is_named(
    change: dict[str, object], why: str, tmp_path: Path
) -> None:
    head = {"driver": "GTiff", "height": 60, "width": 60, "count": 1, "dtype": "int16", "crs": "EPSG:32628"}
    for name, more in (("a.tif", {"transform": from_origin(0.0, 600.0, 10.0, 10.0)}),
                       ("b.tif", {"transform": from_origin(600.0, 600.0, 10.0, 10.0)} | change)):  # fmt: skip
        with rasterio.open(tmp_path / name, "w", **(head | more)) as file:
            file.write(np.ones((60, 60)), 1)
    with pytest.raises(MossError, match=why) as caught:
        describe(tmp_path)
    assert "b.tif does not go with a.tif" in str(caught.value)


def test_a_folder_without_grids_is_told_as_such(tmp_path: Path) -> None:
    (tmp_path / "notes.txt").write_text("none")
    with pytest.raises(MossError, match="holds no grids"):
        describe(tmp_path)
    with pytest.raises(MossError, match="holds no clouds"):
        opening(tmp_path)


def test_a_study_on_a_folder_gives_in_tiles_what_it_gives_in_one_piece(tmp_path: Path) -> None:
    source = cut_up(metric(holed(relief(6, ROWS, COLS))), tmp_path / "parts")
    assert [kind for kind, _ in opening(source)] == ["open_grid"]
    study = Study(
        steps=(
            Step(id="ground", kind="open_grid", settings={"source": str(source)}),
            Step(id="slope", kind="slope", inputs={"dem": "ground"}),
            Step(id="cells", kind="flow_accumulation", inputs={"dem": "ground"}),
        )
    )
    assert left_on_disk(study, study.steps, True)["ground"].frame.shape == (ROWS, COLS)
    for written, expected in both_ways(study, ["slope", "cells"], tmp_path / "work", 512 * 512):
        assert_said_alike(written, expected, 1e-9)
        assert_cells_alike(written, expected, 0.0)


def test_a_virtual_grid_under_another_ending_is_not_followed(tmp_path: Path) -> None:
    secret = tmp_path / "elsewhere" / "secret.tif"
    secret.parent.mkdir()
    write_surface(secret, metric(relief(5)), "secret")
    parts = cut_up(metric(relief(6, ROWS, COLS)), tmp_path / "parts")
    (parts / "part_9_9.tif").write_text(
        '<VRTDataset rasterXSize="42" rasterYSize="36"><VRTRasterBand dataType="Float32" band="1"><SimpleSource>'
        f"<SourceFilename>{secret}</SourceFilename><SourceBand>1</SourceBand></SimpleSource></VRTRasterBand></VRTDataset>"
    )
    with pytest.raises(MossError, match=r"part_9_9.tif could not be read as a raster"):
        describe(parts)
