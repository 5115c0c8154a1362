"""What files from outside may not do, and what writing beside other files may not break."""

import json
import os
import socket
import subprocess
import sys
from pathlib import Path

import numpy as np
import pyogrio
import pytest
import rasterio
import shapely

from moss_step.formats.drivers import GRIDS, LEFT_OUT, SHAPES, WITHIN
from moss_step.formats.raster import read_class_map, read_surface, write_class_map, write_surface
from moss_step.formats.vector import layers, read_shapes, write_shapes
from moss_step.model.class_map import ClassEntry, ClassMap
from moss_step.model.errors import MossError
from moss_step.model.frame import Frame
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.units import DEGREE, METRE, NONE

FRAME = Frame(20, 30, 412_000.0, 5_872_000.0, 2.0, 2.0, "EPSG:32628")
GROUND = Surface(np.arange(600, dtype=np.float32).reshape(20, 30), FRAME, METRE)
PLACES = Shapes(np.array([shapely.Point(412_010, 5_871_990)], object), {"name": np.array(["a"], object)}, "EPSG:32628")


def test_only_our_drivers_are_loaded():
    """The list of the docs is what the libraries have, read and write, rasters and shapes alike."""
    code = "import moss_step.formats.raster, rasterio, pyogrio, json\n"
    code += "with rasterio.Env() as env: print(json.dumps([sorted(env.drivers()), sorted(pyogrio.list_drivers())]))"
    rasters, shapes = json.loads(subprocess.run([sys.executable, "-c", code], capture_output=True, check=True, text=True).stdout)
    assert set(GRIDS) | set(SHAPES) <= set(rasters) | set(shapes), "all that is promised is there"
    assert set(rasters) | set(shapes) <= {*GRIDS, *SHAPES, *WITHIN}, "and nothing else"
    assert not {*GRIDS, *SHAPES, *WITHIN} & set(LEFT_OUT)


@pytest.fixture
def server():
    """A port of this machine, and who called it."""
    with socket.create_server(("127.0.0.1", 0)) as listening:
        listening.settimeout(0.3)
        yield listening


VIRTUAL = {
    "a.geojson": '<OGRVRTDataSource><OGRVRTLayer name="a"><SrcDataSource>http://127.0.0.1:{port}/a.geojson</SrcDataSource></OGRVRTLayer></OGRVRTDataSource>',
    "b.geojson": '{{"type":"gdal_streamed_alg","command_line":"gdal vector pipeline read http://127.0.0.1:{port}/x ! write {out}/written.gpkg"}}',
    "c.csv": '<OGRVRTDataSource><OGRVRTLayer name="a"><SrcDataSource>{out}/written.gpkg</SrcDataSource></OGRVRTLayer></OGRVRTDataSource>',
    "d.shp": "http://127.0.0.1:{port}/x",
    "e.geojson": '{{"type":"FeatureCollection","features":[],"links":[{{"rel":"next","href":"http://127.0.0.1:{port}/next"}}]}}',
    "f.gpkg": "<WFSDataSource><URL>http://127.0.0.1:{port}/wfs</URL></WFSDataSource>",
    "g.tif": "<GDAL_WMS><Service name='TMS'><ServerUrl>http://127.0.0.1:{port}/${{z}}</ServerUrl></Service></GDAL_WMS>",
    "h.tif": "<VRTDataset rasterXSize='1' rasterYSize='1'><VRTRasterBand dataType='Byte' band='1'/></VRTDataset>",
    "i.asc": '{{"type":"gdal_streamed_alg","command_line":"gdal raster pipeline read http://127.0.0.1:{port}/x"}}',
}


@pytest.mark.parametrize("name", list(VIRTUAL))
def test_a_file_that_points_elsewhere_is_refused_whatever_its_ending(name, server, tmp_path):
    out = tmp_path / "out"
    out.mkdir()
    path = tmp_path / name
    path.write_text(VIRTUAL[name].format(port=server.getsockname()[1], out=out))
    before = sorted(tmp_path.rglob("*"))
    with pytest.raises(MossError):
        read_surface(path) if path.suffix in (".tif", ".asc") else read_shapes(path)
    assert sorted(tmp_path.rglob("*")) == before
    with pytest.raises(TimeoutError):
        server.accept()


def virtual_grid(source: str, relative: str = "1", more: str = "") -> str:
    return (
        "<VRTDataset rasterXSize='30' rasterYSize='20'><SRS>EPSG:32628</SRS><GeoTransform>412000,2,0,5872000,0,-2</GeoTransform>"
        f"<VRTRasterBand dataType='Float32' band='1'>{more}<SimpleSource><SourceFilename relativeToVRT='{relative}'>{source}</SourceFilename>"
        "<SourceBand>1</SourceBand></SimpleSource></VRTRasterBand></VRTDataset>"
    )


def test_a_virtual_grid_opens_with_sources_of_its_own_folder(tmp_path):
    write_surface(tmp_path / "ground.tif", GROUND, "Ground")
    (tmp_path / "virtual.vrt").write_text(virtual_grid("ground.tif"))
    assert np.array_equal(read_surface(tmp_path / "virtual.vrt")[0].values, GROUND.values)


@pytest.mark.parametrize(
    "text",
    [
        virtual_grid("../ground.tif"), virtual_grid("{folder}/ground.tif", "0"), virtual_grid("/vsicurl/http://127.0.0.1:9/a.tif"), virtual_grid("http://127.0.0.1:9/a.tif"),
        virtual_grid("ground.tif", more="<PixelFunctionType>a.b</PixelFunctionType><PixelFunctionLanguage>Python</PixelFunctionLanguage>"),
        virtual_grid("ground.tif").replace("<VRTRasterBand ", "<VRTRasterBand subClass='VRTRawRasterBand' "),
        virtual_grid("ground.tif").replace("</SimpleSource>", "<OpenOptions><OOI key='A'>b</OOI></OpenOptions></SimpleSource>"),
        "<!DOCTYPE a [<!ENTITY b SYSTEM 'file:///etc/passwd'>]>" + virtual_grid("&b;"), virtual_grid("virtual.vrt"),
    ],
)  # fmt: skip
def test_a_virtual_grid_with_anything_else_is_refused(text, tmp_path):
    folder = tmp_path / "in"
    folder.mkdir()
    write_surface(tmp_path / "ground.tif", GROUND, "Ground")
    write_surface(folder / "ground.tif", GROUND, "Ground")
    (folder / "virtual.vrt").write_text(text.format(folder=tmp_path))
    with pytest.raises(MossError):
        read_surface(folder / "virtual.vrt")


def test_other_layers_of_a_geopackage_stay(tmp_path):
    path = tmp_path / "all.gpkg"
    write_shapes(path, PLACES, "first")
    write_shapes(path, PLACES, "second")
    write_shapes(path, PLACES, "first")
    assert sorted(layers(path)) == ["first", "second"] and len(read_shapes(path, "second")) == 1


@pytest.mark.parametrize("column", ["fid", "FID", "geom", "Geom", "ogc_fid"])
def test_columns_take_any_name(column, tmp_path):
    shapes = Shapes(PLACES.geometry, {column: np.array([7.5])}, PLACES.crs)
    write_shapes(tmp_path / "a.gpkg", shapes)
    assert read_shapes(tmp_path / "a.gpkg").columns[column].tolist() == [7.5]


def test_what_lies_beside_an_older_file_does_not_speak_of_the_new_one(tmp_path):
    """A stale mask would make all of it no-data, old class names would stay, a journal would be played back."""
    path = tmp_path / "result.tif"
    write_class_map(path, ClassMap(np.ones(FRAME.shape, np.uint8), FRAME, (ClassEntry(1, "Bog", "#336655"),)), "Classes")
    with rasterio.open(path, "r+") as file, rasterio.Env(GDAL_TIFF_INTERNAL_MASK=False):
        file.write_mask(np.zeros(FRAME.shape, np.uint8))
    (tmp_path / "result.tif.aux.xml").write_text("<PAMDataset><Metadata><MDI key='CLASS_1'>Old</MDI></Metadata></PAMDataset>")
    write_surface(path, GROUND, "Ground")
    assert np.array_equal(read_surface(path)[0].values, GROUND.values)
    with pytest.raises(MossError):
        read_class_map(path)
    package = tmp_path / "shapes.gpkg"
    (tmp_path / "shapes.gpkg-journal").write_bytes(b"\xd9\xd5\x05\xf9\x20\xa1\x63\xd7" + b"\1" * 600)
    write_shapes(package, PLACES)
    assert len(read_shapes(package)) == 1 and not (tmp_path / "shapes.gpkg-journal").exists()


def test_side_files_of_neighbours_stay(tmp_path):
    beside = tmp_path / "result2.tif.aux.xml"
    beside.write_text("<PAMDataset/>")
    write_surface(tmp_path / "result.tif", GROUND, "Ground")
    assert beside.read_text() == "<PAMDataset/>"


def test_mode_and_links_stay(tmp_path):
    path, link = tmp_path / "result.tif", tmp_path / "link.tif"
    write_surface(path, GROUND, "Ground")
    path.chmod(0o640)
    link.symlink_to(path)
    write_surface(link, Surface(GROUND.values + 1, FRAME, METRE), "Ground")
    assert link.is_symlink() and path.stat().st_mode & 0o777 == 0o640
    assert read_surface(path)[0].values[0, 0] == 1.0


@pytest.mark.parametrize(
    ("quantity", "unit"), [("openness", DEGREE), ("slope", DEGREE), ("aspect", DEGREE), ("drain_height", METRE), ("views", NONE), ("wetness", NONE)]
)
def test_a_file_says_what_it_measures(quantity, unit, tmp_path):
    values = np.full(FRAME.shape, 3.0, np.float32)
    write_surface(tmp_path / "a.tif", Surface(values, FRAME, unit, quantity), "A")
    read = read_surface(tmp_path / "a.tif")[0]
    assert (read.quantity, read.unit) == (quantity, unit)


def test_points_at_infinity_are_left_out(tmp_path):
    geometry = np.array([shapely.Point(1, 1), shapely.Point(np.inf, 1)], object)
    pyogrio.raw.write(
        tmp_path / "a.gpkg", shapely.to_wkb(geometry), [np.array([1.0, 2.0])], ["v"], driver="GPKG", geometry_type="Point", crs="EPSG:32628"
    )
    assert read_shapes(tmp_path / "a.gpkg").columns["v"].tolist() == [1.0]


@pytest.mark.parametrize("cell", [np.nan, np.inf, 0.0])
def test_a_grid_whose_cells_have_no_size_is_refused(cell, tmp_path):
    with rasterio.open(
        tmp_path / "a.tif", "w", driver="GTiff", width=4, height=4, count=1, dtype="float32", transform=rasterio.Affine(2, cell, 0, cell, -2, 9)
    ) as file:
        file.write(np.ones((4, 4), np.float32), 1)
    if cell == 0.0:
        assert read_surface(tmp_path / "a.tif")[0].frame.dx == 2.0
        return
    with pytest.raises(MossError):
        read_surface(tmp_path / "a.tif")


def test_pipes_and_devices_are_refused(tmp_path):
    os.mkfifo(tmp_path / "pipe.tif")
    for path in (tmp_path / "pipe.tif", Path("/dev/zero"), Path("a\0b.tif")):
        with pytest.raises(MossError, match="pipe or a device|not a file"):
            read_surface(path)
