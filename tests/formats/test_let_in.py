"""What files from outside may not do, and what writing beside other files may not break."""

import csv
import json
import os
import socket
import sqlite3
import subprocess
import sys
import time
from contextlib import closing
from pathlib import Path

import numpy as np
import pyogrio
import pytest
import rasterio
import shapely

from moss_step.formats.drivers import GRIDS, LEFT_OUT, SHAPES, WITHIN, WRITES
from moss_step.formats.raster import read_class_map, read_surface
from moss_step.formats.raster_write import write_class_map, write_surface
from moss_step.formats.rules_csv import read_rules, write_rules
from moss_step.formats.vector import layers, read_shapes, write_shapes
from moss_step.formats.whole import sweep
from moss_step.model.class_map import ClassEntry, ClassMap
from moss_step.model.errors import MossError
from moss_step.model.frame import Frame
from moss_step.model.rules import Rule, RuleSet
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.units import DEGREE, METRE, NONE

FRAME = Frame(20, 30, 412_000.0, 5_872_000.0, 2.0, 2.0, "EPSG:32628")
GROUND = Surface(np.arange(600, dtype=np.float32).reshape(20, 30), FRAME, METRE)
PLACES = Shapes(
    np.array([shapely.Point(412_010, 5_871_990)], object), {"name": np.array(["a"], object)}, "EPSG:32628"
)


def test_only_our_drivers_are_loaded():
    """The list of the docs is what the libraries have, read and write, rasters and shapes alike."""
    code = "import moss_step.formats.raster, rasterio, pyogrio, json\n"
    code += "with rasterio.Env() as env: print(json.dumps([sorted(env.drivers()), sorted(pyogrio.list_drivers())]))"
    rasters, shapes = json.loads(
        subprocess.run([sys.executable, "-c", code], capture_output=True, check=True, text=True).stdout
    )
    assert set(GRIDS) | set(SHAPES) <= set(rasters) | set(shapes), "all that is promised is there"
    assert set(rasters) | set(shapes) <= {*GRIDS, *SHAPES, *WITHIN, *WRITES}, "and nothing else"
    assert not {*GRIDS, *SHAPES, *WITHIN, *WRITES} & set(LEFT_OUT)


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
    write_class_map(
        path, ClassMap(np.ones(FRAME.shape, np.uint8), FRAME, (ClassEntry(1, "Bog", "#336655"),)), "Classes"
    )
    laid_out = {"IGNORE_COG_LAYOUT_BREAK": "YES"}
    with rasterio.open(path, "r+", **laid_out) as file, rasterio.Env(GDAL_TIFF_INTERNAL_MASK=False):
        file.write_mask(np.zeros(FRAME.shape, np.uint8))
    (tmp_path / "result.tif.aux.xml").write_text(
        "<PAMDataset><Metadata><MDI key='CLASS_1'>Old</MDI></Metadata></PAMDataset>"
    )
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
    ("quantity", "unit"),
    [
        ("openness", DEGREE),
        ("slope", DEGREE),
        ("aspect", DEGREE),
        ("drain_height", METRE),
        ("views", NONE),
        ("wetness", NONE),
    ],
)
def test_a_file_says_what_it_measures(quantity, unit, tmp_path):
    values = np.full(FRAME.shape, 3.0, np.float32)
    write_surface(tmp_path / "a.tif", Surface(values, FRAME, unit, quantity), "A")
    read = read_surface(tmp_path / "a.tif")[0]
    assert (read.quantity, read.unit) == (quantity, unit)


def test_points_at_infinity_are_left_out(tmp_path):
    geometry = np.array([shapely.Point(1, 1), shapely.Point(np.inf, 1)], object)
    pyogrio.raw.write(
        tmp_path / "a.gpkg",
        shapely.to_wkb(geometry),
        [np.array([1.0, 2.0])],
        ["v"],
        driver="GPKG",
        geometry_type="Point",
        crs="EPSG:32628",
    )
    assert read_shapes(tmp_path / "a.gpkg").columns["v"].tolist() == [1.0]


@pytest.mark.parametrize("cell", [np.nan, np.inf, 0.0])
def test_a_grid_whose_cells_have_no_size_is_refused(cell, tmp_path):
    with rasterio.open(
        tmp_path / "a.tif",
        "w",
        driver="GTiff",
        width=4,
        height=4,
        count=1,
        dtype="float32",
        transform=rasterio.Affine(2, cell, 0, cell, -2, 9),
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


KILLED = """
import os, sys
from pathlib import Path
import numpy as np
from moss_step.formats.raster_write import write_surface
from moss_step.model.frame import Frame
from moss_step.model.surface import Surface
from moss_step.model.units import METRE
path, number = Path(sys.argv[1]), int(sys.argv[2])
usual, count = Path.replace, 0
def replace(self, target):
    global count
    count += 1
    if count == number:
        os._exit(9)
    return usual(self, target)
Path.replace = replace
write_surface(path, Surface(np.full((20, 30), 7.0, np.float32), Frame(20, 30, 412000.0, 5872000.0, 2.0, 2.0, "EPSG:32628"), METRE), "New")
os._exit(0)
"""


@pytest.mark.parametrize("number", [1, 2, 3, 4])
def test_a_kill_between_any_two_moves_leaves_old_or_new_with_its_side_files(number, tmp_path):
    """Two side files are put aside, then the new file takes its place: a kill before each of these three moves, and none."""
    path = tmp_path / "result.tif"
    write_surface(path, GROUND, "Old")
    sides = {f"{path}.aux.xml": b"<PAMDataset/>", f"{path}.msk": b"not read here"}
    for name, content in sides.items():
        Path(name).write_bytes(content)
    old = path.read_bytes()
    code = subprocess.run([sys.executable, "-c", KILLED, str(path), str(number)], check=False).returncode
    sweep(tmp_path)
    assert [p.name for p in tmp_path.iterdir() if p.name.startswith(".moss-")] == []
    if number < 4:
        assert code == 9 and path.read_bytes() == old
        assert {str(p): p.read_bytes() for p in tmp_path.iterdir() if p != path} == sides
    else:
        assert code == 0 and list(tmp_path.iterdir()) == [path] and read_surface(path)[0].values[0, 0] == 7.0


def test_side_files_come_back_when_the_new_file_cannot_take_its_place(tmp_path, monkeypatch):
    path, side = tmp_path / "a.tif", tmp_path / "a.tif.aux.xml"
    write_surface(path, GROUND, "Old")
    side.write_text("<PAMDataset/>")
    usual = Path.replace

    def refused(self, target):
        if Path(target) == path:
            raise PermissionError(13, "Permission denied")
        return usual(self, target)

    monkeypatch.setattr(Path, "replace", refused)
    with pytest.raises(MossError, match="no permission"):
        write_surface(path, GROUND, "New")
    monkeypatch.undo()
    assert (
        sorted(p.name for p in tmp_path.iterdir()) == ["a.tif", "a.tif.aux.xml"]
        and side.read_text() == "<PAMDataset/>"
    )


def test_layers_that_another_program_has_just_written_stay(tmp_path):
    """What is committed lies in the journal beside the file until that program ends."""
    path = tmp_path / "all.gpkg"
    write_shapes(path, PLACES, "first")
    write_shapes(path, PLACES, "second")
    with closing(sqlite3.connect(path)) as other:
        other.execute("PRAGMA journal_mode=WAL")
        other.execute("CREATE TABLE kept (word TEXT)")
        other.execute("INSERT INTO kept VALUES ('yes')")
        other.commit()
        assert (tmp_path / "all.gpkg-wal").stat().st_size > 0
        write_shapes(path, PLACES, "first")
    with closing(sqlite3.connect(path)) as again:
        assert again.execute("SELECT word FROM kept").fetchall() == [("yes",)]
    assert len(read_shapes(path, "first")) == len(read_shapes(path, "second")) == 1


def test_what_cannot_be_written_is_not_said_to_be_unreadable(tmp_path):
    shapes = Shapes(PLACES.geometry, {"a": np.array([1j])}, PLACES.crs)
    with pytest.raises(MossError, match="could not be written as shapes"):
        write_shapes(tmp_path / "a.gpkg", shapes)
    assert list(tmp_path.iterdir()) == []


def test_virtual_grids_within_one_another_are_bounded(tmp_path):
    """Two hundred that name each of two hundred others would be forty thousand."""
    write_surface(tmp_path / "ground.tif", GROUND, "Ground")
    one = virtual_grid("ground.tif")
    part = one[one.index("<SimpleSource>") : one.index("</VRTRasterBand>")]
    for k in range(200):
        (tmp_path / f"in{k}.vrt").write_text(one.replace(part, part * 200))
    (tmp_path / "all.vrt").write_text(
        one.replace(part, "".join(part.replace("ground.tif", f"in{k}.vrt") for k in range(200)))
    )
    began = time.process_time()
    with pytest.raises(MossError, match="more than 10,000 sources"):
        read_surface(tmp_path / "all.vrt")
    assert time.process_time() - began < 20


def test_names_of_classes_come_back_from_a_table_that_runs_nothing(tmp_path):
    rules = RuleSet(
        (
            Rule(-5, 10, 1, "=cmd()", "#CAD39B"),
            Rule(10, None, 2, "'quoted'", "#CF7340"),
            Rule(None, -5, 3, "'=odd", "#336655"),
        )
    )
    write_rules(tmp_path / "rules.csv", rules)
    cells = [row["name"] for row in csv.DictReader((tmp_path / "rules.csv").open())]
    assert cells == ["'=cmd()", "'quoted'", "''=odd"] and not any(c[0] in "=+-@" for c in cells)
    assert read_rules(tmp_path / "rules.csv") == rules


def test_a_class_of_many_digits_is_refused_whole(tmp_path):
    (tmp_path / "rules.csv").write_text(f"from,to,class,name,color\n0,1,{'0' * 19}1{'0' * 5000},A,#336655\n")
    with pytest.raises(MossError, match="is not a whole number"):
        read_rules(tmp_path / "rules.csv")
