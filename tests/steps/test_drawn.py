"""Drawn shapes against general libraries: lengths and areas by shapely and pyproj, heights by SciPy; and what is refused."""

import numpy as np
import pytest
import shapely
from pyproj import Geod
from scipy.ndimage import map_coordinates

from moss_step.cli import main
from moss_step.formats.raster_write import write_surface
from moss_step.formats.vector import read_shapes
from moss_step.model.errors import AskedWronglyError, MossError
from tests.cases import result_of
from tests.conftest import UTM
from tests.grounds import GROUNDS, in_degrees, metric, relief

PIT = [[20.0, 20.0], [80.0, 30.0], [60.0, 90.0]]


def drawn(kind, *shapes, **inputs):
    settings = {"kind": kind, "shapes": [{"name": f"{k + 1}", "vertices": v} for k, v in enumerate(shapes)]}
    return result_of("draw", {**settings, **inputs.pop("more", {})}, inputs)


def test_areas_and_lengths_of_a_projected_system_are_those_of_the_plane():
    made = drawn("areas", PIT, more={"crs": UTM})
    polygon = shapely.Polygon(PIT)
    assert made.value.columns["area_m2"][0] == pytest.approx(polygon.area) and made.value.columns["length_m"][
        0
    ] == pytest.approx(polygon.length)
    assert (
        made.value.crs == UTM and made.value.names() == ["1"] and "area_m2" in {f.name for f in made.findings}
    )


@pytest.mark.parametrize("latitude", [5.0, 65.0])
def test_areas_and_lengths_in_degrees_are_those_on_the_ellipsoid(latitude):
    """By pyproj's Geod (Karney 2013), whichever way round the outline runs."""
    ring = [[10.0, latitude], [10.02, latitude], [10.02, latitude + 0.01], [10.0, latitude + 0.015]]
    area, length = Geod(ellps="WGS84").geometry_area_perimeter(shapely.Polygon(ring))
    for vertices in (ring, ring[::-1]):
        made = drawn("areas", vertices, more={"crs": "EPSG:4326"}).value
        assert made.columns["area_m2"][0] == pytest.approx(abs(area), rel=1e-9)
        assert made.columns["length_m"][0] == pytest.approx(length, rel=1e-9)


def test_feet_of_a_system_are_metres_on_the_ground():
    made = drawn("areas", PIT, more={"crs": "EPSG:2263"})
    assert made.value.columns["area_m2"][0] == pytest.approx(
        shapely.Polygon(PIT).area * (1200 / 3937) ** 2, rel=1e-9
    )


@pytest.mark.parametrize("ground", ["oblong", "upright", "square"])
def test_vertices_have_the_height_of_the_ground_between_cell_centres(ground):
    size = {"oblong": (40.0, 10.0), "upright": (10.0, 40.0), "square": (10.0, 10.0)}[ground]
    dem = metric(relief(21), *size)
    f = dem.frame
    line = [[f.x_of(3.3), f.y_of(4.7)], [f.x_of(20.5), f.y_of(11.25)], [f.x_of(30.0), f.y_of(30.0)]]
    settings = {"kind": "lines", "shapes": [{"vertices": line}]}
    table = result_of("draw.vertices", settings, {"dem": dem}).value
    expected = map_coordinates(dem.values.astype(float), [[4.7, 11.25, 30.0], [3.3, 20.5, 30.0]], order=1)
    assert table.columns["z"] == pytest.approx(expected, abs=1e-3) and table.unit("z") == dem.unit
    assert list(table.columns["vertex"]) == [1, 2, 3] and list(table.columns["x"]) == [p[0] for p in line]


def test_heights_are_read_where_the_shapes_lie_in_another_system():
    from pyproj import Transformer

    dem = in_degrees(relief(21), latitude=57.0)
    lon, lat = dem.frame.x_of(12.0), dem.frame.y_of(15.0)
    x, y = Transformer.from_crs(dem.frame.crs, "EPSG:3857", always_xy=True).transform(lon, lat)
    made = drawn("points", [[x, y]], dem=dem, more={"crs": "EPSG:3857"})
    assert made.value.columns["height"][0] == pytest.approx(float(dem.values[15, 12]), abs=1e-2)


def test_off_the_ground_and_over_holes_there_is_no_height():
    dem = (
        GROUNDS["holes"]
        if "holes" in GROUNDS
        else metric(np.where(np.arange(1200).reshape(30, 40) % 7 == 0, np.nan, 5.0))
    )
    r, c = np.argwhere(np.isnan(dem.values))[0]
    made = drawn(
        "points",
        [[dem.frame.x_of(c), dem.frame.y_of(r)]],
        [[dem.frame.x_of(-500), dem.frame.y_of(3)]],
        dem=dem,
    )
    assert np.isnan(made.value.columns["height"]).all()


def test_what_has_too_few_vertices_is_left_out_and_said():
    made = drawn("lines", PIT, [[1.0, 2.0]])
    assert len(made.value) == 1 and "1 of the lines have too few vertices" in made.warnings[0]
    with pytest.raises(MossError, match="Nothing is drawn yet"):
        drawn("areas", PIT[:2])
    crossed = drawn("areas", [[0, 0], [10, 10], [10, 0], [0, 10]])
    assert "crosses itself" in crossed.warnings[0]


@pytest.mark.parametrize(
    "shapes", ["1,2,3;4,5", "a,b;c,d", [{"vertices": []}], [{"vertices": [[1.0, 1e300]]}], [{"vertices": [[1, 2]], "more": 1}],
               [{"vertices": [[float("nan"), 1.0]]}], [{"name": "x" * 999, "vertices": [[1, 2]]}]],
)  # fmt: skip
def test_what_is_no_shape_is_refused_in_words(shapes):
    with pytest.raises(AskedWronglyError):
        result_of("draw", {"shapes": shapes}, {})


def test_the_command_line_takes_shapes_as_text(tmp_path):
    write_surface(tmp_path / "g.tif", metric(relief(21)), "Ground")
    f = metric(relief(21)).frame
    corners = ";".join(f"{f.x_of(c):.2f},{f.y_of(r):.2f}" for r, c in ((3, 3), (3, 20), (20, 20)))
    text = f"Old pit: {corners} | {corners}"
    out = ["-o", str(tmp_path / "pit.gpkg"), "-o", f"vertices={tmp_path / 'v.csv'}"]
    assert main(["do", "draw", "kind=areas", f"shapes={text}", f"dem={tmp_path / 'g.tif'}", *out]) == 0
    made = read_shapes(tmp_path / "pit.gpkg")
    assert (
        made.names() == ["Old pit", ""]
        and made.kind == "areas"
        and len((tmp_path / "v.csv").read_text().splitlines()) == 7
    )
