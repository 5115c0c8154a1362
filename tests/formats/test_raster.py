import errno
import os
import resource
import subprocess
import sys
import tracemalloc
from pathlib import Path
from xml.etree import ElementTree

import numpy as np
import pytest
import rasterio
from rasterio.transform import Affine, from_origin
from rio_cogeo.cogeo import cog_validate

from moss_step.formats.raster import describe, read_class_map, read_surface, split_band
from moss_step.formats.raster_write import write_class_map, write_surface
from moss_step.model.class_map import NO_CLASS, ClassEntry, ClassMap
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.surface import Surface
from moss_step.model.units import BEARING, FOOT, METRE, PER_METRE, PERCENT, UNKNOWN, US_FOOT
from tests.conftest import plane, surface, write_tif


def test_a_surface_opens_in_the_general_library_unchanged(tmp_path, hills):
    """rasterio reads what is written here: frame, no-data, unit, name, values; tiled, compressed, with overviews."""
    values = np.tile(hills, (8, 8))
    values[5, 7] = np.nan
    dem = surface(values)
    write_surface(tmp_path / "out.tif", dem, "Ground 2 m")
    with rasterio.open(tmp_path / "out.tif") as file:
        assert file.transform == Affine(2, 0, 412_000, 0, -2, 5_872_000)
        assert file.crs.to_epsg() == 32628
        assert (file.nodata, file.units, file.descriptions) == (-9999.0, ("metre",), ("Ground 2 m",))
        assert file.profile["tiled"] and file.profile["compress"] == "deflate" and file.overviews(1)
        read = file.read(1, masked=True)
    assert read.mask[5, 7] and read.mask.sum() == 1
    assert np.array_equal(read.filled(np.nan), values, equal_nan=True)
    back, remarks = read_surface(tmp_path / "out.tif")
    assert np.array_equal(back.values, dem.values, equal_nan=True) and back.unit == METRE and not remarks


@pytest.mark.parametrize("shape", [(1, 1), (40, 60), (300, 200), (1300, 900)])
@pytest.mark.parametrize("kind", ["surface", "counts", "classes"])
def test_every_grid_is_a_valid_cloud_optimized_geotiff(tmp_path, shape, kind):
    """The validator of rio-cogeo, which follows the format's own description (COG, Open Geospatial Consortium 21-026)."""
    values = np.random.default_rng(1).integers(0, 3, shape).astype(np.float32)
    frame, path = surface(values).frame, tmp_path / "a.tif"
    if kind == "classes":
        entries = tuple(ClassEntry(k, f"c{k}", "#CAD39B") for k in range(3))
        write_class_map(path, ClassMap(values.astype(np.uint8), frame, entries), "Classes")
    else:
        write_surface(
            path, Surface(values, frame, METRE, "seen" if kind == "counts" else "elevation"), "Ground"
        )
    valid, errors, warnings = cog_validate(path)
    assert valid and not errors and not warnings
    with rasterio.open(path) as file:
        assert np.array_equal(file.read(1), values)
        assert file.tags()["TIFFTAG_SOFTWARE"].startswith("Moss Step ")


def test_overviews_of_counts_and_classes_are_the_most_frequent_value(tmp_path):
    """Of each two by two cells three hold one value and one another: the three stand for them."""
    block = np.array([[1, 1], [1, 5]], np.uint8)
    codes = np.tile(block, (600, 600))
    codes[:600] = np.where(codes[:600] == 1, 5, 1)
    frame = surface(codes).frame
    entries = (ClassEntry(1, "a", "#CAD39B"), ClassEntry(5, "b", "#CF7340"))
    write_class_map(tmp_path / "c.tif", ClassMap(codes, frame, entries), "Classes")
    write_surface(tmp_path / "s.tif", Surface(codes.astype(np.float32), frame, METRE, "seen"), "Counts")
    for name in ("c.tif", "s.tif"):
        with rasterio.open(tmp_path / name, overview_level=0) as file:
            coarse = file.read(1)
        assert (coarse[:295] == 5).all() and (coarse[305:] == 1).all()


def test_a_file_says_how_it_came_about_and_its_unit_in_the_usual_words(tmp_path):
    ground = surface([[1.0, 2.0], [3.0, 4.0]])
    lineage = "# Slope\n\nWritten: now\nSlope (slope).\n- unit: percent\n"
    for unit, word in (
        (METRE, "metre"),
        (US_FOOT, "US_survey_foot"),
        (BEARING, "degree"),
        (PER_METRE, "m-1"),
    ):
        made = Surface(ground.values, ground.frame, unit)
        write_surface(tmp_path / "a.tif", made, "Ground", lineage=lineage)
        with rasterio.open(tmp_path / "a.tif") as file:
            assert file.units == (word,) and "- unit: percent" in file.tags()["MOSS_STEP_LINEAGE"]
            assert "Written" not in file.tags()["MOSS_STEP_LINEAGE"]
        assert read_surface(tmp_path / "a.tif")[0].unit == unit


def test_the_table_of_a_class_map_has_a_row_for_each_class(tmp_path):
    codes = np.array([[1, 1, 2], [2, 255, 1]], np.uint8)
    entries = (ClassEntry(1, "Wet & low", "#CAD39B", "0 to 5"), ClassEntry(2, "Dry", "#CF7340", "over 5"))
    write_class_map(tmp_path / "c.tif", ClassMap(codes, surface(codes).frame, entries), "Classes")
    text = (tmp_path / "c.tif.aux.xml").read_text()
    table = ElementTree.fromstring(text).find(".//GDALRasterAttributeTable")  # noqa: S314 - written above
    heads = [f.findtext("Name") for f in table.findall("FieldDefn")]
    rows = [[f.text for f in r.findall("F")] for r in table.findall("Row")]
    assert heads == ["Value", "Class", "Bounds", "Count", "Red", "Green", "Blue"]
    assert rows[0] == ["1", "Wet & low", "0 to 5", "3", "202", "211", "155"] and rows[1][3] == "2"


def test_heights_below_the_no_data_value_are_kept(tmp_path):
    dem = surface([[-9999.0, -12000.0], [0.0, np.nan]])
    write_surface(tmp_path / "deep.tif", dem, "Deep")
    assert np.array_equal(read_surface(tmp_path / "deep.tif")[0].values, dem.values, equal_nan=True)


def test_ascii_grids_both_ways(tmp_path):
    dem = plane(6, 5, 0.1, 0.0)
    write_surface(tmp_path / "out.asc", dem, "Ground")
    assert sorted(p.name for p in tmp_path.iterdir()) == ["out.asc", "out.prj"]
    with rasterio.open(tmp_path / "out.asc") as file:
        assert file.crs.to_epsg(confidence_threshold=70) == 32628, "the reference system lies beside it"
    back, _ = read_surface(tmp_path / "out.asc")
    assert np.allclose(back.values, dem.values, atol=1e-3) and back.frame.box == dem.frame.box
    with pytest.raises(MossError, match="square cells"):
        write_surface(tmp_path / "flat.asc", plane(4, 4, 0, 0, dx=2, dy=3), "x")


def test_classes_are_counted_some_at_a_time(tmp_path):
    """Numbers of eight bytes of all codes at once would take eight times the map."""
    codes = np.random.default_rng(2).integers(0, 4, (2400, 2400)).astype(np.uint8)
    codes[:7] = NO_CLASS
    classes = ClassMap(
        codes, surface(codes).frame, tuple(ClassEntry(k, f"class {k}", "#336699") for k in range(4))
    )
    tracemalloc.start()
    try:
        write_class_map(tmp_path / "c.tif", classes, "classes")
        most = tracemalloc.get_traced_memory()[1]
    finally:
        tracemalloc.stop()
    assert most < 3 * codes.nbytes
    told = (tmp_path / "c.tif.aux.xml").read_text()
    for k in range(4):
        assert f"<F>{np.count_nonzero(codes == k)}</F>" in told
    assert classes.valid_count == np.count_nonzero(codes != NO_CLASS)


def test_a_class_map_keeps_names_colours_and_codes(tmp_path):
    entries = (ClassEntry(0, "Flat & wet", "#C9C7BC", "-1"), ClassEntry(3, "Steep", "#CF7340", "30 – 40"))
    made = ClassMap(np.array([[0, 3], [255, 3]], np.uint8), plane(2, 2, 0, 0).frame, entries)
    write_class_map(tmp_path / "c.tif", made, "Classes")
    with rasterio.open(tmp_path / "c.tif") as file:
        assert file.colormap(1)[3][:3] == (0xCF, 0x73, 0x40)
        assert file.nodata == 255
    back = read_class_map(tmp_path / "c.tif")
    assert back.classes == entries and np.array_equal(back.codes, made.codes)
    assert "<Category>Flat &amp; wet</Category>" in (tmp_path / "c.tif.aux.xml").read_text()


@pytest.mark.parametrize("dtype", ["int16", "uint16", "int32", "uint8", "float64"])
def test_integer_grids_lose_their_no_data_and_keep_their_values(tmp_path, dtype):
    hole = 255 if dtype == "uint8" else 9999
    values = np.array([[1, 2, hole], [4, 5, 6]], dtype)
    found, _ = read_surface(write_tif(tmp_path / "i.tif", values, nodata=hole))
    assert np.array_equal(found.values, np.array([[1, 2, np.nan], [4, 5, 6]], np.float32), equal_nan=True)


def test_south_up_files_are_turned(tmp_path):
    values = np.arange(6, dtype=np.float32).reshape(3, 2)
    found, _ = read_surface(write_tif(tmp_path / "s.tif", values, transform=Affine(2, 0, 100, 0, 2, 50)))
    assert np.array_equal(found.values, values[::-1])
    assert found.frame.box == (100, 50, 104, 56)


def test_rotated_grids_are_resampled_and_it_is_said(tmp_path):
    angle = Affine.translation(1000, 1000) * Affine.rotation(30) * Affine.scale(2, -2)
    rows, cols = np.mgrid[0:60, 0:60] + 0.5
    xs, ys = angle.a * cols + angle.b * rows + angle.c, angle.d * cols + angle.e * rows + angle.f
    path = write_tif(tmp_path / "r.tif", (0.1 * xs + 0.3 * ys).astype(np.float32), transform=angle)
    assert describe(path).rotated
    found, remarks = read_surface(path)
    assert "rotated" in remarks[0]
    cell = (found.frame.rows // 2, found.frame.cols // 2)
    assert found.values[cell] == pytest.approx(
        0.1 * found.frame.x_of(cell[1]) + 0.3 * found.frame.y_of(cell[0]), abs=0.2
    )


def test_scale_and_offset_are_applied(tmp_path):
    path = write_tif(tmp_path / "o.tif", np.array([[0, 100]], np.int16), nodata=-1)
    with rasterio.open(path, "r+") as file:
        file.scales, file.offsets = (0.1,), (500.0,)
    assert read_surface(path)[0].values.tolist() == [[500.0, 510.0]]


def test_units_are_taken_from_the_file_or_its_vertical_axis(tmp_path):
    grid = np.ones((2, 2), np.float32)
    assert read_surface(write_tif(tmp_path / "a.tif", grid, unit="ft"))[0].unit == FOOT
    assert read_surface(write_tif(tmp_path / "b.tif", grid))[0].unit == UNKNOWN
    assert read_surface(write_tif(tmp_path / "c.tif", grid, unit="percent"))[0].quantity == "slope"
    write_surface(tmp_path / "d.tif", Surface(grid, plane(2, 2, 0, 0).frame, BEARING, "aspect"), "Aspect")
    assert read_surface(tmp_path / "d.tif")[0].cyclic
    assert read_surface(tmp_path / "c.tif")[0].unit == PERCENT


def test_one_band_of_several_is_chosen(tmp_path):
    bands = np.stack([np.zeros((2, 2)), np.ones((2, 2)), np.full((2, 2), 2.0)]).astype(np.float32)
    path = write_tif(tmp_path / "b.tif", bands)
    with pytest.raises(MossError, match=r"has 3 bands, and a surface is one. Choose a band, such as b.tif#1"):
        read_surface(path)
    assert read_surface(*split_band(f"{path}#3"))[0].values[0, 0] == 2.0
    with pytest.raises(AskedWronglyError, match="no band 4"):
        read_surface(path, 4)


def test_a_part_is_read_by_box(tmp_path, hills_tif, hills):
    part, _ = read_surface(hills_tif, box=(412_020, 5_871_940, 412_060, 5_871_980))
    assert np.array_equal(part.values, hills[10:30, 10:30])


def test_infinite_values_become_no_data_and_it_is_said(tmp_path):
    found, remarks = read_surface(
        write_tif(tmp_path / "i.tif", np.array([[1, np.inf], [-np.inf, 2]], np.float32))
    )
    assert remarks == ["2 infinite values are taken as no-data."] and found.valid_count == 2


def bad_files(folder: Path, hills: np.ndarray) -> dict[str, tuple[Path, str]]:
    """Files that cannot be read, with what must be said of them."""
    whole = write_tif(folder / "whole.tif", np.tile(hills, (6, 6)), compress="deflate", predictor=3)
    cut = folder / "cut.tif"
    cut.write_bytes(whole.read_bytes()[: whole.stat().st_size // 2])
    text = folder / "text.tif"
    text.write_text("this is no raster\n")
    empty = folder / "empty.tif"
    empty.touch()
    return {
        "truncated": (cut, "could not be read as a raster"),
        "text": (text, "could not be read as a raster"),
        "zero bytes": (empty, "is empty (0 bytes)"),
        "missing": (folder / "none.tif", "was not found"),
        "folder": (folder, "empty.tif is empty"),
    }


@pytest.mark.parametrize("what", ["truncated", "text", "zero bytes", "missing", "folder"])
def test_files_that_cannot_be_read_are_refused_in_words(tmp_path, hills, what):
    path, said = bad_files(tmp_path, hills)[what]
    with pytest.raises(MossError) as caught:
        read_surface(path)
    assert said in str(caught.value) and caught.value.do


def test_addresses_are_no_files():
    with pytest.raises(AskedWronglyError, match="not a file on this machine"):
        read_surface(Path("/vsicurl/http://example.invalid/a.tif"))


def test_gigapixels_are_refused_before_memory_is_taken(tmp_path):
    path = tmp_path / "huge.vrt"
    path.write_text(
        '<VRTDataset rasterXSize="400000" rasterYSize="400000"><GeoTransform>0,1,0,0,0,-1</GeoTransform>'
        '<VRTRasterBand dataType="Float32" band="1"/></VRTDataset>'
    )
    with pytest.raises(MossError, match=r"160,000,000,000 cells needs about .* GB .*box="):
        read_surface(path)


def test_a_virtual_raster_runs_no_code(tmp_path):
    mark = tmp_path / "ran"
    path = tmp_path / "code.vrt"
    path.write_text(
        '<VRTDataset rasterXSize="4" rasterYSize="4"><VRTRasterBand dataType="Float32" band="1" subClass='
        f'"VRTDerivedRasterBand"><PixelFunctionLanguage>Python</PixelFunctionLanguage><PixelFunctionType>f'
        f"</PixelFunctionType><PixelFunctionCode><![CDATA[open({str(mark)!r},'w')\ndef f(*a, **k): pass]]>"
        "</PixelFunctionCode></VRTRasterBand></VRTDataset>"
    )
    with pytest.raises(MossError):
        read_surface(path)
    assert not mark.exists()


def test_a_full_disk_leaves_nothing_behind(tmp_path, monkeypatch):
    """The largest file that a process may write is limited, which the system treats as a full disk for that file."""
    code = (
        "import resource, signal, sys; signal.signal(signal.SIGXFSZ, signal.SIG_IGN)\n"
        "resource.setrlimit(resource.RLIMIT_FSIZE, (200_000, 200_000))\n"
        "import numpy as np; from pathlib import Path; from moss_step.model.errors import MossError\n"
        "from moss_step.formats.raster_write import write_surface; from tests.conftest import surface\n"
        "z = np.random.default_rng(0).random((1000, 1000))\n"
        "try: write_surface(Path(sys.argv[1]), surface(z), 'x')\n"
        "except MossError as e: print(e)\n"
    )
    ran = subprocess.run(
        [sys.executable, "-c", code, str(tmp_path / "o.tif")], capture_output=True, text=True, check=True
    )
    assert "could not be written" in ran.stdout and "full" in ran.stdout
    assert list(tmp_path.iterdir()) == []
    assert resource.getrlimit(resource.RLIMIT_FSIZE)[0] != 200_000

    def full(*_: object) -> None:
        raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))

    monkeypatch.setattr(os, "fsync", full)
    (tmp_path / "old.tif").write_text("kept")
    with pytest.raises(MossError, match="the disk is full"):
        write_surface(tmp_path / "old.tif", plane(4, 4, 0, 0), "x")
    assert (tmp_path / "old.tif").read_text() == "kept" and len(list(tmp_path.iterdir())) == 1


def test_a_folder_without_permission_is_named(tmp_path, monkeypatch):
    import tempfile

    def refused(*_: object, **__: object) -> None:
        raise PermissionError(errno.EACCES, "denied")  # root may write anywhere, so the refusal is acted

    monkeypatch.setattr(tempfile, "mkstemp", refused)
    with pytest.raises(MossError, match=f"no permission for {tmp_path}"):
        write_surface(tmp_path / "o.tif", plane(4, 4, 0, 0), "x")
    monkeypatch.undo()
    with pytest.raises(MossError, match="does not exist"):
        write_surface(tmp_path / "none" / "o.tif", plane(4, 4, 0, 0), "x")


def test_a_no_data_value_is_told_as_it_is_read(tmp_path):
    """Stored 50 with scale 0.1 and offset 2 is read as 7: that is the value which is taken away."""
    path = write_tif(tmp_path / "scaled.tif", np.array([[50, 70], [80, 7]], np.int16))
    with rasterio.open(path, "r+") as file:
        file.scales, file.offsets = (0.1,), (2.0,)
    found, _ = read_surface(path, no_data=7.0)
    assert np.array_equal(np.isnan(found.values), [[True, False], [False, False]])
    assert found.values[1, 1] == pytest.approx(2.7)


def test_relief_that_single_precision_would_blur_stays_double_and_that_is_said(tmp_path):
    """Millimetres at 4,000 m: written and read back to the last digit; a plain grid of doubles becomes single."""
    fine = 4000.0 + np.random.default_rng(1).normal(size=(40, 50)) * 1e-3
    found, remarks = read_surface(write_tif(tmp_path / "fine.tif", fine, unit="metre"))
    assert found.values.dtype == np.float64 and np.array_equal(found.values, fine)
    assert any("double precision" in r for r in remarks)
    write_surface(tmp_path / "again.tif", found, "Fine")
    assert np.array_equal(read_surface(tmp_path / "again.tif")[0].values, fine)
    write_surface(tmp_path / "again.asc", found, "Fine")
    assert np.allclose(read_surface(tmp_path / "again.asc")[0].values, fine, atol=1e-9)
    plain, remarks = read_surface(
        write_tif(tmp_path / "plain.tif", fine * 0.1 + np.arange(50) * 9.0, unit="metre")
    )
    assert plain.values.dtype == np.float32 and not remarks
    whole = np.full((4, 4), 16_777_216, np.int32) + np.arange(4, dtype=np.int32)
    assert np.array_equal(read_surface(write_tif(tmp_path / "whole.tif", whole))[0].values, whole)


def test_an_older_system_beside_an_ascii_grid_does_not_speak_of_the_new_one(tmp_path):
    write_surface(tmp_path / "out.asc", plane(6, 5, 0.1, 0.0), "Ground")
    assert (tmp_path / "out.prj").is_file()
    write_surface(tmp_path / "out.asc", surface(np.ones((4, 4)), crs=None), "Nowhere")
    assert sorted(p.name for p in tmp_path.iterdir()) == ["out.asc"]
    assert read_surface(tmp_path / "out.asc")[0].frame.crs is None


def test_an_ascii_grid_keeps_all_digits_of_its_values(tmp_path):
    values = np.array([[1.2345678e-7, 123456.789], [-0.00012345678, 1e-12]], np.float32)
    write_surface(tmp_path / "out.asc", surface(values), "Small")
    assert np.array_equal(read_surface(tmp_path / "out.asc")[0].values, values)


@pytest.mark.parametrize("quantity", ["seen", "yes_no", "aspect", "elevation"])
def test_overviews_of_counts_and_bearings_hold_values_of_the_grid(tmp_path, quantity):
    values = np.random.default_rng(2).integers(0, 4, (1200, 1200)).astype(np.float32)
    made = Surface(values, surface(values).frame, BEARING if quantity == "aspect" else METRE, quantity)
    write_surface(tmp_path / "many.tif", made, "Counts")
    with rasterio.open(tmp_path / "many.tif", overview_level=0) as file:
        coarse = file.read(1)
    assert (set(np.unique(coarse)) <= {0.0, 1.0, 2.0, 3.0}) is (quantity != "elevation")


@pytest.mark.parametrize("gone", [-9999.0, 0.0, 3.0e38, -3.4028234663852886e38, np.nan, 0.1])
def test_what_stands_for_no_data_is_what_the_raster_library_takes_for_it(tmp_path: Path, gone: float) -> None:
    """Values next to it, too: single precision counts as equal within two steps."""
    single = np.float32(gone) if abs(gone) < 3.5e38 else np.float32(1.0)
    near = [single]
    for _ in range(12):
        near += [np.nextafter(near[-1], np.float32(np.inf))]
    below = [np.nextafter(single, np.float32(-np.inf))]
    values = np.array([*near, *below, 0.0, 1.0, -1.0, 2e38, -2e38, np.nan], np.float32)[None]
    path = tmp_path / "near.tif"
    with rasterio.open(
        path, "w", driver="GTiff", height=1, width=values.size, count=1, dtype="float32", nodata=gone,
        crs="EPSG:32628", transform=from_origin(0, 0, 1, 1),
    ) as file:  # fmt: skip
        file.write(values, 1)
    with rasterio.open(path) as file:
        expected = np.where(file.read_masks(1) == 0, np.nan, values)
    expected[np.isinf(expected)] = np.nan
    np.testing.assert_array_equal(read_surface(path)[0].values, expected)


def test_text_beside_the_head_of_raw_numbers_is_not_taken_for_them(tmp_path):
    z = np.random.default_rng(1).random((60, 80)).astype(np.float32)
    head = {"driver": "ENVI", "height": 60, "width": 80, "count": 1, "dtype": "float32"}
    with rasterio.open(
        tmp_path / "dem.dat", "w", transform=from_origin(0.0, 600.0, 10.0, 10.0), **head
    ) as file:
        file.write(z, 1)
    np.testing.assert_array_equal(read_surface(tmp_path / "dem.dat")[0].values, z)
    (tmp_path / "dem.xyz").write_text("412000.0 5872000.0 213.7\n" * 4800)
    with pytest.raises(MossError, match="is no grid: dem.hdr beside it tells of 19,200 bytes"):
        read_surface(tmp_path / "dem.xyz")
