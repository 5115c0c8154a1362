import json

import numpy as np
import pyogrio
import pytest
import shapely

from moss_step.formats.rules_csv import read_rules, write_rules
from moss_step.formats.vector import in_system, layers, read_shapes, split_layer, write_shapes
from moss_step.model.errors import MossError
from moss_step.model.shapes import Shapes
from moss_step.science.classes.presets import aspect_sectors
from tests.conftest import UTM


def test_rules_both_ways(tmp_path):
    path = tmp_path / "sectors.csv"
    write_rules(path, aspect_sectors())
    assert path.read_text().splitlines()[:3] == [
        "from,to,class,name,color",
        "-1,-1,0,Flat,#C9C7BC",
        "337.5,22.5,1,North,#4A6FA5",
    ]
    assert read_rules(path) == aspect_sectors()


def test_open_ends_and_spare_columns(tmp_path):
    path = tmp_path / "r.csv"
    path.write_text("class,from,to,remark\n1,,5,a\n2,5,,b\n", encoding="utf-8-sig")
    rules = read_rules(path).rules
    assert [(r.low, r.high, r.name) for r in rules] == [(None, 5.0, "Class 1"), (5.0, None, "Class 2")]


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("a,b\n1,2\n", "has no column from, to, class"),
        ("from,to,class\n0,x,1\n", "line 2: to 'x' is not a number"),
        ("from,to,class\n0,5,one\n", "line 2: class 'one' is not a whole number"),
        ("from,to,class,name,color\n0,5,1,a,blue\n", "line 2: 'blue' is not a colour"),
        ("from,to,class,name,color\n0,5,1,a,#000000\n5,6,1,b,#000000\n", "called both 'a' and 'b'"),
    ],
)
def test_rules_that_cannot_be_used_name_the_line(tmp_path, text, said):
    path = tmp_path / "r.csv"
    path.write_text(text)
    with pytest.raises(MossError) as caught:
        read_rules(path)
    assert said in str(caught.value)


def bogs() -> Shapes:
    squares = np.array(
        [
            shapely.box(412_000, 5_871_000, 412_100, 5_871_100),
            shapely.box(412_200, 5_871_000, 412_250, 5_871_100),
        ]
    )
    return Shapes(
        squares, {"name": np.array(["Long Moss", "Dun Moss"], object), "depth": np.array([1.5, 0.5])}, UTM
    )


@pytest.mark.parametrize("ending", [".gpkg", ".fgb"])
def test_shapes_open_in_the_general_library_unchanged(tmp_path, ending):
    path = tmp_path / f"bogs{ending}"
    write_shapes(path, bogs())
    meta, _, wkb, _ = pyogrio.raw.read(path)
    assert meta["crs"] == UTM and list(meta["fields"]) == ["name", "depth"]
    assert sorted(shapely.area(shapely.from_wkb(wkb))) == [5000, 10000]
    back = read_shapes(path)
    assert (
        sorted(back.names()) == ["Dun Moss", "Long Moss"]
        and back.kind == "areas"
        and back.count_text == "2 areas"
    )


def test_geojson_is_in_longitude_and_latitude(tmp_path):
    """RFC 7946: coordinates are WGS 84 longitude and latitude."""
    path = tmp_path / "bogs.geojson"
    write_shapes(path, bogs())
    x, y = json.loads(path.read_text())["features"][0]["geometry"]["coordinates"][0][0]
    assert -17 < x < -16 and 52 < y < 54
    there = in_system(read_shapes(path), UTM)
    assert shapely.area(there.geometry).sum() == pytest.approx(15_000, rel=1e-4)


def test_one_layer_of_several(tmp_path):
    path = tmp_path / "two.gpkg"
    for name in ("wet", "dry"):
        pyogrio.raw.write(path, shapely.to_wkb(bogs().geometry), [], [], layer=name, geometry_type="Polygon", crs=UTM,
                          append=path.exists())  # fmt: skip
    assert layers(path) == ["wet", "dry"]
    assert len(read_shapes(*split_layer(f"{path}#dry"))) == 2
    with pytest.raises(MossError, match="no layer 'lost'. It has wet, dry"):
        read_shapes(path, "lost")


def test_what_holds_no_shapes_is_refused(tmp_path):
    (tmp_path / "t.gpkg").write_text("nothing")
    with pytest.raises(MossError, match="could not be read as shapes"):
        read_shapes(tmp_path / "t.gpkg")
    (tmp_path / "e.geojson").write_text('{"type":"FeatureCollection","features":[]}')
    with pytest.raises(MossError, match="holds no shapes"):
        read_shapes(tmp_path / "e.geojson")
    with pytest.raises(MossError, match="no format for shapes"):
        write_shapes(tmp_path / "o.xyz", bogs())


@pytest.mark.parametrize(
    ("names", "first", "crs"),
    [
        (("x", "y"), (412_100.5, 5_871_900.25), None),
        (("Easting", "Northing"), (412_100.5, 5_871_900.25), None),
        (("lon", "lat"), (-4.25, 52.5), "EPSG:4326"),
    ],
)
def test_rows_of_a_table_that_say_where_they_lie_are_points(tmp_path, names, first, crs):
    path = tmp_path / "masts.csv"
    path.write_text(
        f"name,{names[0]},{names[1]},height\nNorth,{first[0]},{first[1]},12.5\nSouth,{first[0]},{first[1] - 0.5},\n"
    )
    shapes = read_shapes(path)
    assert shapes.kind == "points" and shapes.crs == crs and shapes.names() == ["North", "South"]
    assert (shapes.geometry[0].x, shapes.geometry[0].y) == first
    assert shapes.columns["height"][0] == 12.5 and np.isnan(shapes.columns["height"][1])


def test_a_table_without_places_is_refused_with_the_columns_to_give(tmp_path):
    path = tmp_path / "figures.csv"
    path.write_text("name,value\nA,1\n")
    with pytest.raises(MossError, match="a table without places") as caught:
        read_shapes(path)
    assert "x and y" in caught.value.do
