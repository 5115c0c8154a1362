"""TINs in files: read back, opened by general libraries, and hostile ones."""

import xml.etree.ElementTree as ET

import meshio
import numpy as np
import pytest
import shapely

from moss_step.formats.tin import read_tin, write_tin
from moss_step.formats.vector import read_shapes
from moss_step.kinds.tin import TIN
from moss_step.model.errors import MossError
from moss_step.model.units import METRE
from moss_step.science.interpolate.places import Measured
from moss_step.science.interpolate.plane import Plane
from moss_step.science.interpolate.tin import BreakLine, triangulate


@pytest.fixture
def tin():
    rng = np.random.default_rng(1)
    x, y = 413000.0 + rng.random(80) * 200.0, 5871000.0 + rng.random(80) * 200.0
    wall = BreakLine(np.array([[413020.0, 5871050.0, 9.0], [413180.0, 5871120.0, 9.0]]))
    held = Measured(x, y, np.round(rng.random(80) * 5.0, 3))
    return triangulate(held, Plane(413000.0, 5871000.0, 1.0, 1.0), "EPSG:32628", METRE, [wall])


def faces_of(points, faces):
    """Middles of triangles in their order from west to east: files may hold them in another one."""
    middles = np.asarray(points)[np.asarray(faces)].mean(axis=1)
    return middles[np.argsort(middles[:, 0])]


@pytest.mark.parametrize("ending", [".ply", ".obj"])
def test_a_tin_comes_back_with_its_system_unit_and_lines(tin, tmp_path, ending):
    path = tmp_path / f"t{ending}"
    write_tin(path, tin, "A wall")
    back = read_tin(path)
    assert np.allclose(back.x, tin.x, atol=1e-3) and np.allclose(back.z, tin.z, atol=1e-6)
    assert np.array_equal(back.triangles, tin.triangles) and np.array_equal(back.lines, tin.lines)
    assert (back.crs, back.unit) == ("EPSG:32628", METRE)


@pytest.mark.parametrize("ending", [".ply", ".obj"])
def test_a_general_library_reads_the_same_triangles(tin, tmp_path, ending):
    """trimesh and meshio (lib)."""
    import trimesh  # takes long to load

    path = tmp_path / f"t{ending}"
    write_tin(path, tin)
    ours = faces_of(np.column_stack([tin.x, tin.y, tin.z]), tin.triangles)
    if ending == ".ply":
        theirs = trimesh.load(path, process=False)
        assert np.allclose(faces_of(theirs.vertices, theirs.faces), ours, rtol=0, atol=1e-4)
    else:
        theirs = meshio.read(path)
        assert np.allclose(faces_of(theirs.points, theirs.cells_dict["triangle"]), ours, rtol=0, atol=1e-4)


def test_landxml_holds_northing_easting_and_elevation(tin, tmp_path):
    """LandXML 1.2: a P is northing, easting, elevation; an F the numbers of three points."""
    path = tmp_path / "t.xml"
    write_tin(path, tin, 'Wall & "bed"')
    space = {"l": "http://www.landxml.org/schema/LandXML-1.2"}
    root = ET.parse(path).getroot()  # noqa: S314 - written by the test itself
    points = [[float(v) for v in p.text.split()] for p in root.iterfind(".//l:P", space)]
    faces = [[int(n) - 1 for n in f.text.split()] for f in root.iterfind(".//l:F", space)]
    ours = faces_of(np.column_stack([tin.y, tin.x, tin.z]), tin.triangles)
    assert np.allclose(faces_of(points, faces), ours, rtol=0, atol=1e-4)
    assert root.find(".//l:Surface", space).get("name") == 'Wall & "bed"'
    assert root.find(".//l:CoordinateSystem", space).get("epsgCode") == "32628"
    assert root.find(".//l:Metric", space).get("linearUnit") == "meter"


def test_a_geopackage_holds_an_area_for_each_triangle(tin, tmp_path):
    path = tmp_path / "t.gpkg"
    write_tin(path, tin)
    areas = read_shapes(path)
    assert len(areas) == len(tin)
    assert shapely.area(areas.geometry).sum() == pytest.approx(
        shapely.convex_hull(shapely.multipoints(np.column_stack([tin.x, tin.y]))).area, rel=1e-6
    )
    assert areas.columns["highest"].max() == pytest.approx(9.0)


def test_the_shelf_gives_it_back(tin):
    about, arrays = TIN.parts(tin)
    back = TIN.restored(about, arrays)
    assert np.array_equal(back.triangles, tin.triangles) and back.unit == METRE and back.crs == tin.crs


@pytest.mark.parametrize(
    ("name", "content", "words"),
    [
        ("a.ply", b"ply\nformat ascii 1.0\nelement vertex 1000000000000\nproperty float x\nend_header\n", "claims"),
        ("a.ply", b"not a ply", "no PLY"),
        ("a.ply", b"", "empty"),
        ("a.ply", b"ply\nformat ascii 1.0\nelement vertex 3\nproperty float x\nproperty float y\nproperty float z\nend_header\n0 0 0\n1 0 0\n", "early end-of-file"),
        ("a.ply", b"ply\nformat ascii 1.0\nelement vertex 3\nproperty float x\nproperty float y\nproperty float z\nelement face 1\nproperty int material\nend_header\n0 0 0\n1 0 0\n0 1 0\n4\n", "corners of its faces"),
        ("a.obj", b"v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 9\n", "no point"),
        ("a.obj", b"v 0 0 0\nv 1 0 zero\n", "Line 2"),
        ("a.obj", b"v 0 0\nv 1 0\nv 0 1\nf 1 2 3\n", "three coordinates"),
        ("a.obj", b"v 0 0 nan\nv 1 0 0\nv 0 1 0\nf 1 2 3\n", "no numbers"),
        ("a.obj", b"v 0 0 0\n", "no triangles"),
        ("a.obj", bytes(range(128, 256)), "not a text"),
        ("a.xml", b"<LandXML/>", "cannot be read"),
    ],
)  # fmt: skip
def test_a_hostile_file_ends_in_words(tmp_path, name, content, words):
    path = tmp_path / name
    path.write_bytes(content)
    with pytest.raises(MossError, match=words):
        read_tin(path)


def test_a_file_that_looks_like_ours_may_hold_faces_of_four_corners(tmp_path):
    head = "\n".join(
        ["ply", "format ascii 1.0", "comment unit metre", "element vertex 4"]
        + [f"property float {axis}" for axis in "xyz"]
        + ["element face 1", "property list uchar int vertex_indices", "end_header"]
    )
    path = tmp_path / "a.ply"
    path.write_text(head + "\n0 0 0\n1 0 0\n1 1 0\n0 1 0\n4 0 1 2 3\n")
    assert len(read_tin(path)) == 2
    corners = np.array([[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0]], "<f4").tobytes()
    path.write_bytes(head.replace("ascii", "binary_little_endian").encode() + b"\n" + corners
                     + b"\x04" + np.arange(4, dtype="<i4").tobytes())  # fmt: skip
    with pytest.raises(MossError, match="unexpected list length"):
        read_tin(path)


def test_faces_of_four_corners_are_cut(tmp_path):
    path = tmp_path / "a.obj"
    path.write_text("v 0 0 1\nv 1 0 1\nv 1 1 1\nv 0 1 1\nf 1/1 2/2 3/3 4/4\n")
    assert len(read_tin(path)) == 2
