"""Tables and layers as others read them: one type a layer, class tables that are rules, conditions on texts."""

import csv
import io
import time

import numpy as np
import pyogrio
import pytest
import shapely
from hypothesis import given
from hypothesis import strategies as st

from moss_step.cli import main
from moss_step.formats.columns_csv import table_text
from moss_step.formats.rules_csv import read_rules
from moss_step.formats.vector import read_shapes, write_shapes
from moss_step.formats.whole import write_text
from moss_step.model.errors import MossError
from moss_step.model.shapes import Shapes
from moss_step.science.zones.choose import rows_matching
from tests.conftest import UTM

ONE = {
    "point": shapely.Point(0, 0),
    "line": shapely.LineString([(0, 0), (9, 9)]),
    "area": shapely.box(0, 0, 5, 5),
}
MANY = {
    "point": shapely.MultiPoint([(1, 1), (2, 2)]),
    "line": shapely.MultiLineString([[(0, 0), (1, 1)], [(2, 2), (3, 3)]]),
    "area": shapely.MultiPolygon([shapely.box(0, 0, 1, 1), shapely.box(2, 2, 3, 3)]),
}


@pytest.mark.parametrize("ending", [".gpkg", ".geojson", ".fgb"])
@pytest.mark.parametrize("kind", ["point", "line", "area"])
def test_a_layer_of_single_and_multiple_shapes_has_one_type(tmp_path, kind, ending):
    shapes = Shapes(np.array([ONE[kind], MANY[kind]], object), {"k": np.array([1, 2])}, UTM)
    write_shapes(tmp_path / f"a{ending}", shapes)
    info = pyogrio.read_info(tmp_path / f"a{ending}")
    assert info["geometry_type"] == MANY[kind].geom_type
    back = read_shapes(tmp_path / f"a{ending}")
    parts = {int(k): len(shapely.get_parts(g)) for k, g in zip(back.columns["k"], back.geometry, strict=True)}
    assert parts == {1: 1, 2: 2}, "some formats keep an order of their own"


def test_a_class_table_reads_back_as_the_rules_that_made_it(tmp_path, hills_tif, capsys):
    """The same classes from the same ground, by the table alone."""
    slope, table = tmp_path / "s.tif", tmp_path / "c.csv"
    assert main(["do", "slope", f"dem={hills_tif}", "-o", str(slope)]) == 0
    assert main(["do", "classify", f"surface={slope}", "rules=natural", "-o", str(table)]) == 0
    rows = list(csv.DictReader(io.StringIO(table.read_text())))
    assert (
        list(rows[0])[:6] == ["from", "to", "class", "name", "color", "unit"] and rows[0]["unit"] == "degree"
    )
    assert len(read_rules(table).rules) == len(rows)
    again = tmp_path / "again.csv"
    assert main(["do", "classify", f"surface={slope}", f"rules={table}", "-o", str(again)]) == 0
    assert again.read_text() == table.read_text()


def test_a_class_of_two_ranges_has_two_rows_and_its_numbers_once(tmp_path, hills_tif):
    rules, table = tmp_path / "r.csv", tmp_path / "c.csv"
    rules.write_text(
        "from,to,class,name,color\n315,45,1,North,#AA0000\n135,225,1,North,#AA0000\n45,135,2,East,#00AA00\n"
    )
    aspect = tmp_path / "a.tif"
    assert main(["do", "aspect", f"dem={hills_tif}", "-o", str(aspect)]) == 0
    assert main(["do", "classify", f"surface={aspect}", f"rules={rules}", "-o", str(table)]) == 0
    rows = list(csv.DictReader(io.StringIO(table.read_text())))
    assert [(r["from"], r["to"], r["class"]) for r in rows] == [
        ("315", "45", "1"),
        ("135", "225", "1"),
        ("45", "135", "2"),
    ]
    assert rows[0]["count"] and not rows[1]["count"] and rows[2]["unit"] == "bearing"


def test_a_map_that_no_ranges_made_is_no_table_of_rules(tmp_path, hills_tif):
    slope, table = tmp_path / "s.tif", tmp_path / "c.csv"
    assert main(["do", "slope", f"dem={hills_tif}", "-o", str(slope)]) == 0
    assert main(["do", "formula", "expression=s > 20", f"s={slope}", "-o", str(table)]) == 0
    with pytest.raises(MossError, match="no column from, to"):
        read_rules(table)


COLUMNS = {
    "name": np.array(["Long Moss", "Tarn's end", "Long Moss", ""], object),
    "kind": np.array(["bog", "lake", "lake", "bog"], object),
    "area": np.array([1.0, 5.0, 9.0, np.nan]),
}


@pytest.mark.parametrize(
    ("condition", "rows"),
    [
        ("name == 'Long Moss'", [0, 2]),
        ('"Long Moss" == name', [0, 2]),
        ("name != 'Long Moss'", [1, 3]),
        ('name == "Tarn\'s end"', [1]),
        ("name == 'Long Moss' and area > 5", [2]),
        ("kind == 'lake' or area < 2", [0, 1, 2]),
        ("not (kind == 'bog')", [1, 2]),
        ("name == ''", [3]),
        ("name == 'long moss'", []),
        ("area >= 5", [1, 2]),
    ],
)
def test_conditions_ask_texts_as_well_as_numbers(condition, rows):
    assert rows_matching(COLUMNS, condition).tolist() == rows


@pytest.mark.parametrize(
    "condition",
    [
        "nam == 'Long Moss'",
        "name == Long",
        "name < 'M'",
        "name == 'a' == 'b'",
        "area" + " + 1" * 5000 + " > 0 and name == 'a'",
        "(" * 3000 + "name == 'a'" + ")" * 3000,
        "name ==",
        "__import__('os') == 'x'",
    ],
)
def test_a_condition_that_cannot_be_asked_is_refused(condition):
    with pytest.raises(MossError):
        rows_matching(COLUMNS, condition)


@given(
    values=st.lists(
        st.text(st.characters(exclude_categories=["Cs", "Cc"]), max_size=6), min_size=1, max_size=8
    ),
    wanted=st.integers(0, 7),
)
def test_whatever_a_column_holds_can_be_asked_for(values, wanted):
    text = values[wanted % len(values)]
    found = rows_matching({"name": np.array(values, object)}, f"name == {text!r}")
    assert found.tolist() == [k for k, v in enumerate(values) if v == text]


@pytest.mark.parametrize("ending", [".gpkg", ".geojson", ".fgb", ".csv"])
def test_the_same_shapes_are_the_same_file(tmp_path, ending):
    shapes = Shapes(
        np.array([ONE["area"], MANY["area"]], object), {"name": np.array(["a", "b"], object)}, UTM
    )
    contents = []
    for folder in ("one", "two"):
        (tmp_path / folder).mkdir()
        if ending == ".csv":
            write_text(tmp_path / folder / "a.csv", table_text(shapes.columns))
        else:
            write_shapes(tmp_path / folder / f"a{ending}", shapes)
        contents.append((tmp_path / folder / f"a{ending}").read_bytes())
        time.sleep(1.1)
    assert contents[0] == contents[1]


def test_a_column_may_have_any_name_beside_a_condition_on_texts():
    columns = {"name": np.array(["a", "b"], object), "text_0": np.array([5.0, 7.0])}
    assert rows_matching(columns, "name == 'a' and text_0 == 5").tolist() == [0]
