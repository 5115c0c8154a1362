"""NetCDF after the CF conventions, both ways, against xarray and netCDF4 (Unidata's own library)."""

import warnings

import netCDF4
import numpy as np
import pytest
from pyproj import CRS

from moss_step.cli import main
from moss_step.formats.raster import describe, read_class_map, read_surface, split_band
from moss_step.formats.raster_write import write_class_map, write_surface
from moss_step.model.class_map import ClassEntry, ClassMap
from moss_step.model.errors import MossError
from moss_step.model.frame import Frame
from moss_step.model.surface import Surface
from moss_step.model.units import DEGREE, METRE, US_FOOT
from tests.cases import as_is, run
from tests.grounds import in_degrees, metric, relief

HEIGHTS = np.array([[1.5, np.nan, 3.25, 4.0], [5.0, 6.0, 7.0, 8.0], [9.0, 10.0, 11.0, 12.5]], np.float32)


def opened(path):
    import xarray as xr  # takes long to load

    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        return xr.open_dataset(path)


def other_file(path, format="NETCDF4", **attrs):
    """Two grids by another program: heights over time, south up, packed; and a flat one."""
    import xarray as xr  # takes long to load

    held = xr.Dataset(
        {
            "height": (("time", "lat", "lon"), np.arange(24.0).reshape(2, 3, 4), {"units": "m"}),
            "flat": (("lat", "lon"), np.ones((3, 4)), {"units": "ft", **attrs}),
        },
        coords={"lat": [50.0, 50.1, 50.2], "lon": [10.0, 10.1, 10.2, 10.3], "time": [0, 1]},
    )
    held.lat.attrs = {"units": "degrees_north", "standard_name": "latitude"}
    held.lon.attrs = {"units": "degrees_east", "standard_name": "longitude"}
    packed = {"height": {"dtype": "int16", "scale_factor": 0.5, "add_offset": 3.0, "_FillValue": -99}}
    held.to_netcdf(path, format=format, encoding=packed)
    return path


FEET = Surface(relief(9, 9, 7).astype(np.float32), Frame(9, 7, 1e6, 2e6, 5.0, 5.0, "EPSG:2232"), US_FOOT)
GROUNDS = {"metres": metric(relief(5, 9, 7)), "degrees": in_degrees(relief(5, 9, 7), 54.0), "feet": FEET}


@pytest.mark.parametrize("name", GROUNDS)
def test_what_is_written_other_libraries_read_unchanged_and_so_do_we(tmp_path, name):
    ground = GROUNDS[name]
    ground = Surface(
        np.where(np.arange(63).reshape(9, 7) == 10, np.nan, ground.values), ground.frame, ground.unit
    )
    path = tmp_path / "ground.nc"
    write_surface(path, ground, "Höhe <of> the ground", lineage="Written: today\nmade by hand")
    seen = opened(path)
    assert seen.attrs["Conventions"] == "CF-1.11" and seen.attrs["title"] == "Höhe <of> the ground"
    assert seen.attrs["history"] == "made by hand", "the same result is the same file"
    held = seen["elevation"]
    np.testing.assert_array_equal(held.values, ground.values)
    frame = ground.frame
    np.testing.assert_allclose(held.x.values, [frame.x_of(c) for c in range(7)], rtol=1e-12)
    np.testing.assert_allclose(held.y.values, [frame.y_of(r) for r in range(9)], rtol=1e-12)
    said = CRS.from_cf(seen["crs"].attrs)
    assert said.equals(CRS.from_user_input(frame.crs), ignore_axis_order=True)
    assert held.attrs["grid_mapping"] == "crs" or held.encoding["grid_mapping"] == "crs"
    assert netCDF4.Dataset(path)["elevation"].units in ("metre", "foot", "US_survey_foot")
    back, remarks = read_surface(path)
    np.testing.assert_array_equal(back.values, ground.values)
    assert (back.unit, back.quantity, remarks) == (ground.unit, "elevation", [])
    assert CRS.from_user_input(back.frame.crs).equals(CRS.from_user_input(frame.crs), ignore_axis_order=True)
    assert np.allclose(back.frame.box, frame.box, rtol=1e-12)


def test_quantity_and_unit_come_back_and_the_same_result_is_the_same_file(tmp_path):
    slope = Surface(HEIGHTS, Frame(3, 4, 100.0, 200.0, 2.0, 3.0, "EPSG:32628"), DEGREE, "slope")
    for name in ("a.nc", "b.nc"):
        write_surface(tmp_path / name, slope, "Slope")
    assert (tmp_path / "a.nc").read_bytes() == (tmp_path / "b.nc").read_bytes()
    back, _ = read_surface(tmp_path / "a.nc")
    assert (back.unit, back.quantity) == (DEGREE, "slope")
    assert opened(tmp_path / "a.nc")["slope"].attrs["units"] == "degree"
    feet_high = Surface(HEIGHTS, slope.frame, US_FOOT)
    write_surface(tmp_path / "f.nc", feet_high, "Heights")
    assert read_surface(tmp_path / "f.nc")[0].unit == US_FOOT
    assert opened(tmp_path / "f.nc")["elevation"].attrs["units"] == "US_survey_foot"


@pytest.mark.parametrize("format", ["NETCDF4", "NETCDF3_CLASSIC", "NETCDF3_64BIT"])
def test_grids_of_other_programs_are_read_with_scale_turn_and_names(tmp_path, format):
    path = other_file(tmp_path / "other.nc", format)
    with pytest.raises(MossError, match=r"several grids: height, flat\.(?s:.)*other\.nc#height"):
        read_surface(path)
    file, band = split_band(f"{path}#height#2")
    surface, remarks = read_surface(file, band)
    np.testing.assert_allclose(surface.values, np.arange(12.0, 24.0).reshape(3, 4)[::-1])
    assert surface.unit == METRE and any("WGS 84 is taken" in r for r in remarks)
    assert CRS.from_user_input(surface.frame.crs).is_geographic
    assert np.allclose(surface.frame.box, (9.95, 49.95, 10.35, 50.25))
    with pytest.raises(MossError, match="2 bands"):
        read_surface(*split_band(f"{path}#height"))
    with pytest.raises(MossError):
        read_surface(*split_band(f"{path}#nothing"))
    assert read_surface(*split_band(f"{path}#flat"))[0].unit.key == "foot"


def test_uneven_cells_are_refused(tmp_path):
    import xarray as xr  # takes long to load

    held = xr.Dataset({"z": (("y", "x"), np.ones((3, 4)))}, coords={"y": [0.0, 1.0, 5.0], "x": [0, 1, 2, 3]})
    held.to_netcdf(tmp_path / "u.nc", format="NETCDF3_CLASSIC")
    with pytest.raises(MossError, match="not evenly spaced"):
        read_surface(tmp_path / "u.nc")


@pytest.mark.parametrize("format", ["NETCDF4", "NETCDF3_CLASSIC"])
def test_damaged_files_end_in_words(tmp_path, format):
    """Bytes changed and cut at random: a surface or a plain error, and never more memory than there is."""
    raw = other_file(tmp_path / "good.nc", format).read_bytes()
    rng = np.random.default_rng(5)
    path = tmp_path / "bad.nc"
    refused = 0
    for _ in range(150):
        bad = bytearray(raw)
        for at in rng.integers(4, len(bad), rng.choice([1, 4, 32])):
            bad[at] = rng.integers(256)
        path.write_bytes(bytes(bad[: rng.integers(8, len(bad))] if rng.random() < 0.3 else bad))
        try:
            read_surface(path, "height#1")
        except MossError as error:
            refused += 1
            assert "Traceback" not in str(error)
    assert refused > 20


def test_a_virtual_grid_does_not_open_netcdf(tmp_path):
    other_file(tmp_path / "other.nc", "NETCDF3_CLASSIC")
    (tmp_path / "v.vrt").write_text(
        '<VRTDataset rasterXSize="4" rasterYSize="3"><VRTRasterBand dataType="Float32" band="1"><SimpleSource>'
        '<SourceFilename relativeToVRT="1">other.nc</SourceFilename><SourceBand>1</SourceBand></SimpleSource>'
        "</VRTRasterBand></VRTDataset>"
    )
    with pytest.raises(MossError, match="NetCDF is not read in a virtual grid"):
        read_surface(tmp_path / "v.vrt")


def test_the_command_line_takes_it_in_and_gives_it_out(tmp_path):
    ground = metric(relief(21))
    write_surface(tmp_path / "g.nc", ground, "Ground")
    assert main(["do", "slope", f"dem={tmp_path / 'g.nc'}", "-o", str(tmp_path / "s.nc"), "--quiet"]) == 0
    expected = run("slope", ground, as_is(ground)).value
    np.testing.assert_allclose(opened(tmp_path / "s.nc")["slope"].values, expected.values, rtol=1e-6)
    assert describe(tmp_path / "s.nc").quantity == "slope"


def test_what_a_file_states_and_no_library_knows_ends_in_words(tmp_path):
    """A system that is none, letters for values."""
    from scipy.io import netcdf_file

    def made(name, kind, values, **attrs):
        path = tmp_path / name
        with netcdf_file(str(path), "w") as file:
            for axis in "yx":
                file.createDimension(axis, 3)
                file.createVariable(axis, "f8", (axis,))[:] = [0.0, 1.0, 2.0]
            file.createVariable("crs", "i4", ()).crs_wkt = b"PROJCS[nonsense"
            held = file.createVariable("z", kind, ("y", "x"))
            held[:] = values
            for key, value in attrs.items():
                setattr(held, key, value)
        return path

    for path in (
        made("system.nc", "f4", np.ones((3, 3)), grid_mapping=b"crs"),
        made("letters.nc", "S1", np.full((3, 3), b"a")),
    ):
        with pytest.raises(MossError, match=path.name):
            read_surface(path)


@pytest.mark.parametrize("name", GROUNDS)
def test_class_maps_are_flags_that_other_libraries_name(tmp_path, name):
    """CF 1.11, section 3.5: codes with flag_values and flag_meanings; names, bounds and colours come back whole."""
    frame = GROUNDS[name].frame
    codes = np.array([0, 7, 254, 255], np.uint8)[np.arange(63).reshape(9, 7) % 4]
    entries = (
        ClassEntry(0, "Flat, or nearly", "#CAD39B", "0 to 5"), ClassEntry(7, "Höhe <steep>", "#CF7340", "over 5"),
        ClassEntry(254, "rock", "#010203"),
    )  # fmt: skip
    path = tmp_path / "classes.nc"
    write_class_map(path, ClassMap(codes, frame, entries), "Classes of slope")
    held = opened(path)["classes"]
    known = codes != 255
    np.testing.assert_array_equal(held.values[known], codes[known])
    assert np.isnan(held.values[~known]).all() and list(held.attrs["flag_values"]) == [0, 7, 254]
    assert held.attrs["flag_meanings"].split() == ["Flat_or_nearly", "Höhe_steep", "rock"]
    back = read_class_map(path)
    np.testing.assert_array_equal(back.codes, codes)
    assert [(c.code, c.name, c.color, c.text) for c in back.classes] == [
        (c.code, c.name, c.color, c.text) for c in entries
    ]
    assert np.allclose(back.frame.box, frame.box, rtol=1e-12)
    first = path.read_bytes()
    write_class_map(path, ClassMap(codes, frame, entries), "Classes of slope")
    assert path.read_bytes() == first


def test_flags_of_other_programs_are_classes_and_a_colour_is_one_or_none(tmp_path):
    from scipy.io import netcdf_file

    path = tmp_path / "cover.nc"
    with netcdf_file(str(path), "w") as file:
        for axis, values in (("lat", [54.2, 54.1]), ("lon", [1.0, 1.1, 1.2])):
            file.createDimension(axis, len(values))
            file.createVariable(axis, "f8", (axis,))[:] = values
        held = file.createVariable("cover", "i1", ("lat", "lon"))
        held[:] = [[1, 2, 1], [2, 2, 1]]
        held.flag_values, held.flag_meanings = np.array([1, 2], "i1"), b"dry_heath bog"
        held.moss_step_color_1, held.moss_step_color_2 = b"#12345G; x", b"#0a0B0c"
    back = read_class_map(path)
    assert [(c.code, c.name, c.color) for c in back.classes] == [
        (1, "dry heath", "#808080"),
        (2, "bog", "#0A0B0C"),
    ]
    assert back.codes.tolist() == [[1, 2, 1], [2, 2, 1]]
