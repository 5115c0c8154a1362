"""Tiles that are read without the raster library between, against the raster library."""

import errno
import fcntl
import os
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
import rasterio
import tifffile
from rasterio.enums import MaskFlags
from rasterio.transform import from_origin

from moss_step.formats import tiled
from moss_step.formats.plain_tiles import plain_tiles
from moss_step.formats.tiled import lay_out
from moss_step.formats.windows import GridReader, GridSource
from moss_step.model.errors import MossError
from moss_step.model.frame import Frame

ROWS, COLS = 333, 470
PLAIN = {"tiled": True, "blockxsize": 64, "blockysize": 48}


def write(path: Path, values: np.ndarray, **profile: object) -> Path:
    shape = {"height": values.shape[0], "width": values.shape[1], "count": 1, "dtype": values.dtype.name}
    place = from_origin(412_000, 5_872_000, 2, 2)
    with rasterio.open(
        path, "w", driver="GTiff", crs="EPSG:32628", transform=place, **{**shape, **PLAIN, **profile}
    ) as file:
        for band in range(1, file.count + 1):
            file.write(values, band)
    return path


def rough(gone: float | None = None, infinite: bool = False) -> np.ndarray:
    rng = np.random.default_rng(2)
    values = rng.normal(size=(ROWS, COLS)).astype(np.float32) * 100
    values[rng.random(values.shape) < 0.1] = np.float32(gone) if gone is not None else 0.0
    if infinite:
        values[rng.random(values.shape) < 0.05] = np.inf
        values[rng.random(values.shape) < 0.05] = -np.inf
    return values


@pytest.mark.parametrize("gone", [None, -9999.0, 0.0, float("nan"), -3.4028234663852886e38, 1e30])
@pytest.mark.parametrize("infinite", [False, True])
def test_windows_are_what_the_raster_library_reads(
    gone: float | None, infinite: bool, tmp_path: Path
) -> None:
    path = write(tmp_path / "g.tif", rough(gone, infinite), nodata=gone)
    with rasterio.open(path) as file:
        whole = file.read(1)
        if file.mask_flag_enums[0] == [MaskFlags.nodata]:
            whole[file.read_masks(1) == 0] = np.nan
        tiles = plain_tiles(path, file)
    assert tiles is not None
    tiles.close()
    known = np.isinf(whole)
    whole[known] = np.nan
    rng = np.random.default_rng(3)
    with GridReader(GridSource(path)) as reader:
        assert reader.is_plain
        for _ in range(40):
            r, c = (np.sort(rng.choice(n + 1, 2, replace=False)) for n in (ROWS, COLS))
            before = reader.infinite
            part = slice(int(r[0]), int(r[1])), slice(int(c[0]), int(c[1]))
            np.testing.assert_array_equal(reader.read(*part), whole[part])
            assert reader.infinite - before == np.count_nonzero(known[part])


@pytest.mark.parametrize(
    "profile",
    [
        {"compress": "deflate"},
        {"tiled": False, "blockxsize": COLS, "blockysize": 1},
        {"dtype": "float64"},
        {"dtype": "int16"},
        {"count": 2},
        {"ENDIANNESS": "BIG"},
        {"SPARSE_OK": True},
    ],
    ids=str,
)
def test_what_is_not_plain_is_left_to_the_raster_library(profile: dict[str, object], tmp_path: Path) -> None:
    values = rough().astype(str(profile.get("dtype", "float32")))
    if "SPARSE_OK" in profile:
        values[:48, :64] = 0
        profile = {**profile, "nodata": 0.0}
    path = write(tmp_path / "g.tif", values, **profile)
    with rasterio.open(path) as file:
        assert plain_tiles(path, file) is None
    with GridReader(GridSource(path, band=1)) as reader:
        expected = values.astype(np.float32)
        if "SPARSE_OK" in profile:
            expected[expected == 0] = np.nan
        np.testing.assert_array_equal(reader.read(slice(0, ROWS), slice(0, COLS)), expected)


def test_a_mask_beside_the_values_is_heeded(tmp_path: Path) -> None:
    path = write(tmp_path / "g.tif", rough())
    with rasterio.open(path, "r+") as file:
        file.write_mask(np.arange(ROWS * COLS).reshape(ROWS, COLS) % 3 != 0)
    with GridReader(GridSource(path)) as reader:
        assert not reader.is_plain
        found = reader.read(slice(0, ROWS), slice(0, COLS))
    assert np.isnan(found.reshape(-1)[::3]).all() and not np.isnan(found.reshape(-1)[1::3]).any()


def test_scaled_values_and_grids_that_run_north_are_read_as_they_are_meant(tmp_path: Path) -> None:
    values = rough()
    with rasterio.open(write(tmp_path / "s.tif", values), "r+") as file:
        file.scales, file.offsets = (0.5,), (10.0,)
    with GridReader(GridSource(tmp_path / "s.tif")) as reader:
        np.testing.assert_allclose(
            reader.read(slice(5, 50), slice(3, 90)), values[5:50, 3:90] * 0.5 + 10, rtol=1e-6
        )
    place = rasterio.Affine(-2.0, 0.0, 412_000.0, 0.0, 2.0, 5_872_000.0)
    turned = tmp_path / "t.tif"
    with rasterio.open(
        turned,
        "w",
        driver="GTiff",
        crs="EPSG:32628",
        transform=place,
        height=ROWS,
        width=COLS,
        count=1,
        dtype="float32",
        **PLAIN,
    ) as file:
        file.write(values, 1)
    with GridReader(GridSource(turned)) as reader:
        assert reader.is_plain
        np.testing.assert_array_equal(
            reader.read(slice(7, 99), slice(11, 200)), values[::-1, ::-1][7:99, 11:200]
        )


def test_a_file_that_is_cut_off_while_it_is_open_is_named(tmp_path: Path) -> None:
    path = write(tmp_path / "g.tif", rough())
    with GridReader(GridSource(path)) as reader:
        assert reader.is_plain
        os.truncate(path, 100_000)
        with pytest.raises(MossError, match="cannot be read in rows 0 to 332"):
            reader.read(slice(0, ROWS), slice(0, COLS))


def test_a_file_system_without_the_way_past_its_copies_is_written_all_the_same(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    frame, values = (
        Frame(600, 700, 0.0, 0.0, 1.0, 1.0, "EPSG:32628"),
        np.random.default_rng(1).random((600, 700)).astype(np.float32),
    )
    values[::5, ::3] = np.nan
    opened, refused = os.open, list[int]()

    def refuse(path: str, flags: int, *more: int) -> int:
        if flags & os.O_DIRECT:
            refused.append(flags)
            raise OSError(errno.EINVAL, "no such way")
        return opened(path, flags, *more)

    hashes = []
    for name, way in (("direct.tif", opened), ("other.tif", refuse)):
        monkeypatch.setattr(tiled.os, "open", way)
        target = lay_out(tmp_path / name, frame, np.dtype(np.float32), -1.0, lambda _: None)
        hashes.append(target.write(slice(0, 600), slice(0, 700), values))
        assert target.digest(slice(0, 600), slice(0, 700)) == hashes[-1]
        with GridReader(GridSource(target.path)) as reader:
            np.testing.assert_array_equal(reader.read(slice(0, 600), slice(0, 700)), values)
    assert refused and hashes[0] == hashes[1]


def test_memory_that_is_let_go_is_kept_for_the_next_array() -> None:
    script = """
import resource, numpy as np
from moss_step.model.memory import keep_freed
def faults():
    before = resource.getrusage(resource.RUSAGE_SELF).ru_minflt
    np.full(20_000_000, 1.0)
    return resource.getrusage(resource.RUSAGE_SELF).ru_minflt - before
keep_freed()
first = faults()
print(first, faults())
"""
    done = subprocess.run(
        [sys.executable, "-c", script], capture_output=True, text=True, check=True, timeout=120
    )
    first, second = map(int, done.stdout.split())
    assert second < 20 < first


def test_a_file_system_that_refuses_a_write_past_its_copies_is_written_all_the_same(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    frame, values = (
        Frame(512, 1024, 0.0, 0.0, 1.0, 1.0, "EPSG:32628"),
        rough(None)[:1, :1] * np.ones((512, 1024), np.float32),
    )
    target = lay_out(tmp_path / "g.tif", frame, np.dtype(np.float32), -1.0, lambda _: None)
    written, refused = os.pwrite, list[int]()

    def refuse(file: int, data: memoryview, offset: int) -> int:
        if fcntl.fcntl(file, fcntl.F_GETFL) & tiled._PAST_COPIES:
            refused.append(offset)
            raise OSError(errno.EINVAL, "pages are larger here")
        return written(file, data, offset)

    monkeypatch.setattr(tiled.os, "pwrite", refuse)
    assert target.write(slice(0, 512), slice(0, 1024), values) == target.digest(slice(0, 512), slice(0, 1024))
    assert len(refused) <= 1  # none where the way past the copies was refused before
    with GridReader(GridSource(target.path)) as reader:
        np.testing.assert_array_equal(reader.read(slice(0, 512), slice(0, 1024)), values)


@pytest.mark.parametrize("tag", ["TileOffsets", "TileByteCounts", "TileWidth", "TileLength"])
@pytest.mark.parametrize("value", [0, 16, 2**31 - 16, 2**32 - 16])
def test_hostile_places_and_sizes_of_tiles_end_in_words_or_values(
    tag: str, value: int, tmp_path: Path
) -> None:
    values = rough()
    path = write(tmp_path / "g.tif", values, BIGTIFF="YES")
    with tifffile.TiffFile(path) as file:
        place = file.pages.first.tags[tag]
        size = {3: 2, 4: 4, 16: 8}[int(place.dtype)]
        at = place.valueoffset
    with path.open("r+b") as raw:
        raw.seek(at)
        raw.write((value % 256**size).to_bytes(size, "little"))
    try:
        with GridReader(GridSource(path)) as reader:
            found = reader.read(slice(0, ROWS), slice(0, COLS))
        assert found.shape == values.shape
    except MossError as error:
        assert str(path) in error.what
