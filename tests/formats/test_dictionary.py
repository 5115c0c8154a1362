"""Tables with their dictionary beside them, as W3C's CSV on the Web has it: read back by the csvw library."""

import json
import re

import numpy as np
import pyogrio
import pytest
import shapely
from csvw import Table

from moss_step.cli import main
from moss_step.formats.raster_write import write_surface
from moss_step.formats.vector import read_shapes, write_shapes
from moss_step.kinds.registry import kind_of
from moss_step.model.fields import FIELDS, PLACES, column_name, meaning
from moss_step.model.shapes import Shapes
from moss_step.science.zones.choose import rows_matching
from tests.cases import RESULTS, as_is, run
from tests.conftest import UTM
from tests.grounds import metric, relief

GROUND = metric(relief(21))
OWN = {"name", "value", "a", "b"}
"""Columns of the inputs of the cases, and of surfaces that they name."""


def rows_of(path):
    """The rows of a table as a library reads them by its dictionary alone."""
    return list(Table.from_file(path.with_name(f"{path.name}-metadata.json")))


def columns_of(path):
    said = json.loads(path.with_name(f"{path.name}-metadata.json").read_text())
    return said, {c["titles"]: c for c in said["tableSchema"]["columns"]}


@pytest.mark.parametrize("name", RESULTS)
def test_every_column_of_every_table_is_plain_and_explained(name):
    outcome = run(name, GROUND, as_is(GROUND))
    columns = kind_of(outcome.value).columns
    for column in columns(outcome)[0] if columns else ():
        assert re.fullmatch("[a-z][a-z0-9_]*", column), f"{name}: {column}"
        assert column in OWN or meaning(column), f"{name}: {column} has no meaning in model/fields.py"


def test_what_is_explained_ends_in_a_full_stop_and_places_are_known():
    assert all(text[0].isupper() or text[0].isdigit() for text in FIELDS.values())
    assert all(text.endswith(".") for text in FIELDS.values()) and set(PLACES) <= set(FIELDS)


@pytest.mark.parametrize(
    ("name", "column"),
    [("High & dry", "high_dry"), ("not (a > 3)", "not_a_3"), ("  ", "column"), ("Größe", "größe")],
)
def test_names_become_columns(name, column):
    assert column_name(name) == column


def test_a_table_is_read_back_by_its_dictionary_with_types_units_and_system(tmp_path):
    write_surface(tmp_path / "g.tif", GROUND, "Ground")
    path = tmp_path / "contours.csv"
    assert (
        main(["do", "contours", f"dem={tmp_path / 'g.tif'}", "interval=10", "-o", str(path), "--quiet"]) == 0
    )
    expected = run("contours", GROUND, as_is(GROUND)).value
    rows, (said, columns) = rows_of(path), columns_of(path)
    assert len(rows) == len(path.read_text().splitlines()) - 1 and set(expected.columns) == set(columns)
    kinds = {n: c["datatype"] for n, c in columns.items()}
    assert kinds["closed"] == "boolean" and kinds["length_m"] == "number"
    assert {type(r["column_3"]) for r in rows} == {bool} and list(columns)[2] == "closed"
    assert columns["length_m"]["schema:unitText"] == "m" and columns["elevation"]["schema:unitText"] == "m"
    assert "conformsTo" not in str(said), "no column holds coordinates"


def test_coordinates_in_columns_say_their_system(tmp_path):
    write_surface(tmp_path / "g.tif", GROUND, "Ground")
    (x0, y0), (x1, y1) = as_is(GROUND)((6, 7)), as_is(GROUND)((29, 33))
    path = tmp_path / "profile.csv"
    given = ["do", "profile", f"surface={tmp_path / 'g.tif'}", f"line={x0},{y0},{x1},{y1}"]
    assert main([*given, "-o", str(path), "--quiet"]) == 0
    said, columns = columns_of(path)
    assert said["dc:conformsTo"].endswith("/EPSG/0/32628")
    assert columns["x"]["dc:description"] == "Place, east, in WGS 84 / UTM zone 28N (EPSG:32628)."
    assert columns["distance"]["schema:unitText"] == "m"


def test_a_class_table_has_a_dictionary_too(tmp_path):
    write_surface(tmp_path / "g.tif", GROUND, "Ground")
    path = tmp_path / "c.csv"
    assert (
        main(["do", "relief_tint", f"dem={tmp_path / 'g.tif'}", "interval=20", "-o", str(path), "--quiet"])
        == 0
    )
    rows, (_, columns) = rows_of(path), columns_of(path)
    assert columns["area_m2"]["schema:unitText"] == "m²" and columns["class"]["datatype"] == "integer"
    at = list(columns).index("share") + 1
    assert sum(float(r[f"column_{at}"]) for r in rows) == pytest.approx(1.0, abs=1e-6)


def test_a_layer_says_what_it_is_and_keeps_yes_and_no(tmp_path):
    shapes = Shapes(
        np.array([shapely.Point(1, 2), shapely.Point(3, 4)], object),
        {"closed": np.array([True, False]), "k": np.array([1, 2])},
        UTM,
    )
    write_shapes(tmp_path / "a.gpkg", shapes, about="Two <places>")
    info = pyogrio.read_info(tmp_path / "a.gpkg")
    assert info["layer_metadata"]["DESCRIPTION"] == "Two <places>"
    assert dict(zip(info["fields"], info["dtypes"], strict=True))["closed"] == "bool"
    back = read_shapes(tmp_path / "a.gpkg")
    assert back.columns["closed"].tolist() == [True, False]
    assert rows_matching(back.columns, "closed == 1").tolist() == [0]


def test_areas_of_checkered_ground_are_valid_and_keep_their_area():
    """Cells that touch at corners only: every outline is valid for GEOS, and as large as its cells."""
    from moss_step.model.class_map import ClassEntry, ClassMap
    from moss_step.model.frame import Frame
    from moss_step.science.zones.outlines import classes_to_areas

    rng = np.random.default_rng(3)
    codes = rng.integers(0, 3, (40, 50)).astype(np.uint8)
    codes[::2, ::2], codes[1::2, 1::2] = 0, 0
    entries = tuple(ClassEntry(k, f"c{k}", "#112233") for k in range(3))
    made = classes_to_areas(ClassMap(codes, Frame(40, 50, 0.0, 80.0, 2.0, 2.0, UTM), entries))
    assert shapely.is_valid(made.geometry).all()
    assert shapely.area(made.geometry).tolist() == [(codes == k).sum() * 4.0 for k in range(3)]


@pytest.mark.parametrize("seed", range(4))
def test_basins_of_rough_ground_are_valid_and_keep_their_area(seed):
    """On noise many basins touch themselves at corners of cells."""
    rough = metric(np.random.default_rng(seed).normal(100.0, 5.0, (60, 70)))
    made = run("basins", rough, as_is(rough)).value
    assert len(made) > 10 and shapely.is_valid(made.geometry).all()
    np.testing.assert_allclose(shapely.area(made.geometry), made.columns["area_m2"], rtol=1e-9)
    np.testing.assert_allclose(made.columns["area_m2"], made.columns["cells"] * 100.0, rtol=1e-9)


def test_an_older_dictionary_never_speaks_of_a_newer_table(tmp_path, monkeypatch):
    """A kill between table and dictionary leaves none; a failed write leaves both old ones."""
    from moss_step.formats import dictionary as module
    from moss_step.formats.whole import write_text

    path, beside = tmp_path / "a.csv", tmp_path / "a.csv-metadata.json"
    module.write_columns(path, {"old": np.arange(2.0)}, {})
    assert beside.is_file()

    def killed(at, text, side_files=lambda _: []):
        if at == beside:
            raise KeyboardInterrupt
        write_text(at, text, side_files)

    monkeypatch.setattr(module, "write_text", killed)
    with pytest.raises(KeyboardInterrupt):
        module.write_columns(path, {"new": np.arange(3.0)}, {})
    assert path.read_text().startswith("new") and [f.name for f in tmp_path.iterdir()] == ["a.csv"]
