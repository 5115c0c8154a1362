"""Files cut off, scribbled on or made up: a value or a plain message that names the file, and never anything else."""

import subprocess
import sys
import tempfile
from pathlib import Path

import numpy as np
import pytest
import shapely
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays

from moss_step.formats.raster import describe, read_class_map, read_surface
from moss_step.formats.raster_write import write_class_map, write_surface
from moss_step.formats.rules_csv import read_rules, write_rules
from moss_step.formats.vector import layers, read_shapes, write_shapes
from moss_step.model.class_map import NO_CLASS, ClassEntry, ClassMap
from moss_step.model.errors import MossError
from moss_step.model.frame import Frame
from moss_step.model.rules import Rule, RuleSet
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.units import METRE
from moss_step.study.graph import file_name

# The raster library's own log stumbles over messages that quote damaged text; what it raises there reaches nobody.
pytestmark = [
    pytest.mark.qt_no_exception_capture,
    pytest.mark.filterwarnings("ignore::pytest.PytestUnraisableExceptionWarning"),
]
FRAME = Frame(40, 50, 412_000.0, 5_872_000.0, 2.0, 2.0, "EPSG:32628")
GROUND = Surface(np.random.default_rng(1).normal(400, 20, (40, 50)).astype(np.float32), FRAME, METRE)


def whole_file(kind: str) -> bytes:
    """A sound file of a kind."""
    with tempfile.TemporaryDirectory() as name:
        path = Path(name) / f"whole.{kind}"
        if kind in ("tif", "asc"):
            write_surface(path, GROUND, "Ground")
        elif kind == "csv":
            write_rules(
                path, RuleSet((Rule(0, 10, 1, "Gentle", "#CAD39B"), Rule(10, None, 2, "Steep", "#CF7340")))
            )
        else:
            areas = np.array([shapely.box(0, 0, 5, 5), shapely.box(5, 0, 9, 5)], object)
            write_shapes(
                path,
                Shapes(
                    areas, {"name": np.array(["A", "B"], object), "value": np.array([1.0, 2.0])}, "EPSG:32628"
                ),
            )
        return path.read_bytes()


WHOLE = {kind: whole_file(kind) for kind in ("tif", "asc", "csv", "gpkg", "geojson")}


def read(path: Path) -> object:
    if path.suffix in (".tif", ".asc"):
        describe(path)
        return read_surface(path)[0]
    if path.suffix == ".csv":
        return read_rules(path)
    return [read_shapes(path, layer) for layer in layers(path)]


def try_to_read(kind: str, content: bytes) -> object | None:
    """What a file of such bytes holds; None after a message that names it."""
    with tempfile.TemporaryDirectory() as name:
        path = Path(name) / f"damaged.{kind}"
        path.write_bytes(content)
        try:
            return read(path)
        except MossError as error:
            assert "damaged" in str(error), str(error)
            assert error.do or error.exit_code == 1
            return None


@pytest.mark.parametrize("kind", sorted(WHOLE))
def test_a_sound_file_is_read(kind):
    assert try_to_read(kind, WHOLE[kind])


@pytest.mark.parametrize("kind", sorted(WHOLE))
@given(data=st.data())
@settings(max_examples=40, deadline=None)
def test_a_file_cut_off_anywhere_is_read_or_refused(kind, data):
    end = data.draw(st.integers(0, len(WHOLE[kind]) - 1))
    found = try_to_read(kind, WHOLE[kind][:end])
    if isinstance(found, Surface):
        assert found.frame.shape == FRAME.shape, "no smaller ground is passed off as the whole one"
        same = (found.values == GROUND.values) | np.isnan(found.values)
        assert same.all() or kind == "asc", "and no value that was not there"


@pytest.mark.parametrize("kind", sorted(WHOLE))
@given(data=st.data())
@settings(max_examples=60, deadline=None)
def test_a_file_scribbled_on_is_read_or_refused(kind, data):
    content = bytearray(WHOLE[kind])
    for _ in range(data.draw(st.integers(1, 4))):
        at = data.draw(st.integers(0, len(content) - 1))
        content[at : at + 1] = data.draw(st.binary(min_size=1, max_size=3))
    found = try_to_read(kind, bytes(content))
    if isinstance(found, Surface):
        assert found.values.dtype == np.float32 and found.values.shape == found.frame.shape
        assert not np.isinf(found.values).any()


@pytest.mark.parametrize("kind", sorted(WHOLE))
@given(content=st.binary(max_size=200))
@settings(max_examples=40, deadline=None)
def test_a_file_of_anything_is_read_or_refused(kind, content):
    try_to_read(kind, content)


def test_a_grid_that_is_cut_off_gives_no_ground():
    """Half of the bytes are half of the ground: it is refused, not filled up."""
    assert try_to_read("tif", WHOLE["tif"][: len(WHOLE["tif"]) // 2]) is None
    assert try_to_read("asc", WHOLE["asc"][: len(WHOLE["asc"]) // 2]) is None
    assert try_to_read("gpkg", WHOLE["gpkg"][: len(WHOLE["gpkg"]) // 2]) is None


values = arrays(
    np.float32,
    st.tuples(st.integers(1, 12), st.integers(1, 12)),
    elements=st.floats(-1e4, 1e4, width=32) | st.just(np.nan),
)


@given(values, st.floats(0.1, 100), st.floats(0.1, 100))
@settings(max_examples=60, deadline=None)
def test_a_surface_comes_back_as_it_was_written(z, dx, dy):
    frame = Frame(*z.shape, 412_000.0, 5_872_000.0, dx, dy, "EPSG:32628")
    with tempfile.TemporaryDirectory() as name:
        path = Path(name) / "there and back.tif"
        write_surface(path, Surface(z, frame, METRE), "There")
        back, _ = read_surface(path)
    assert np.array_equal(back.values, z, equal_nan=True) and back.unit == METRE
    assert (
        back.frame.shape == frame.shape
        and back.frame.dx == pytest.approx(dx)
        and back.frame.dy == pytest.approx(dy)
    )


@given(
    arrays(
        np.uint8,
        st.tuples(st.integers(1, 12), st.integers(1, 12)),
        elements=st.sampled_from([0, 3, 200, NO_CLASS]),
    ),
    st.lists(
        st.text(st.characters(codec="utf-8", exclude_categories=("Cs", "Cc")), min_size=1, max_size=12)
        .map(str.strip)
        .filter(bool),
        min_size=3,
        max_size=3,
    ),
)
@settings(max_examples=40, deadline=None)
def test_a_class_map_comes_back_with_its_names_and_colours(codes, names):
    entries = tuple(
        ClassEntry(k, n, c)
        for k, n, c in zip((0, 3, 200), names, ("#CAD39B", "#CF7340", "#B9652A"), strict=True)
    )
    frame = Frame(*codes.shape, 412_000.0, 5_872_000.0, 2.0, 2.0, "EPSG:32628")
    with tempfile.TemporaryDirectory() as name:
        path = Path(name) / "classes.tif"
        write_class_map(path, ClassMap(codes, frame, entries), "Classes")
        back = read_class_map(path)
    assert np.array_equal(back.codes, codes)
    assert {(e.code, e.name, e.color) for e in back.classes} == {(e.code, e.name, e.color) for e in entries}


@given(st.text(max_size=60))
def test_any_name_makes_a_file_name(text):
    name = file_name(text)
    assert (
        name and "/" not in name and "\0" not in name and name not in (".", "..") and len(name.encode()) < 255
    )


def test_a_header_whose_unit_is_no_text_is_refused():
    """Bytes that are no UTF-8 in the place of a unit."""
    content = WHOLE["tif"].replace(b"metre", b"\x80etre")
    assert content != WHOLE["tif"]
    assert try_to_read("tif", content) is None


@pytest.mark.parametrize(
    ("head", "said"),
    [
        ("Y,y,name", "without places"),
        ("lat,y,name", "without places"),
        ("x,X,y", "2 columns called x"),
        ("Y,y,x", "2 columns called y"),
        ("lat,Lat,lon", "2 columns called lat"),
    ],
)
def test_a_table_whose_columns_could_mean_several_places_is_refused(
    head: str, said: str, tmp_path: Path
) -> None:
    """The library that reads tables ends the process at these; so the step runs in one of its own."""
    table, out = tmp_path / "table.csv", tmp_path / "out.geojson"
    table.write_text(f"{head}\n412010,5871990,3\n412020,5871980,4\n")
    words = [sys.executable, "-m", "moss_step", "do", "open_shapes", f"source={table}", "-o", str(out)]
    done = subprocess.run(words, capture_output=True, text=True, check=False, timeout=60)
    assert done.returncode == 1
    assert said in done.stderr
    assert len(done.stderr.strip().splitlines()) == 1
    assert not out.exists()


@pytest.mark.parametrize("head", ["lat,lon,x,y", "X;Y;lon;lat", "lon,lat,northing,easting", "y,x,lat,lon"])
def test_of_several_pairs_of_columns_the_projected_one_counts(head: str, tmp_path: Path) -> None:
    mark = ";" if ";" in head else ","
    held = {
        "x": "412010",
        "easting": "412010",
        "y": "5871990",
        "northing": "5871990",
        "lat": "53",
        "lon": "-16",
    }
    row = mark.join(held[n.lower()] for n in head.split(mark))
    (tmp_path / "table.csv").write_text(f"{head}\n{row}\n{row}\n")
    shapes = read_shapes(tmp_path / "table.csv")
    assert shapes.crs is None
    assert (shapes.geometry[0].x, shapes.geometry[0].y) == (412010.0, 5871990.0)
