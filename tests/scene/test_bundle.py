"""Several results handed on at once, and every format read back by a general library: rasterio and rio-cogeo for grids,
pyogrio for shapes, pyarrow for Parquet, openpyxl for spreadsheets, trimesh for meshes, lxml for styles.

GeoParquet 1.1 (OGC), Shapefile (ESRI 1998), glTF 2.0 (Khronos), SLD 1.0.0 (OGC 02-070): from memory.
"""

from __future__ import annotations

import csv
import json
import re
import sqlite3
import subprocess
import sys
import zipfile
from contextlib import closing
from pathlib import Path

import numpy as np
import pyogrio
import pytest
import rasterio
import shapely
from lxml import etree
from openpyxl import load_workbook
from pyarrow import parquet
from rio_cogeo.cogeo import cog_validate
from shapely.geometry import LineString, Point, Polygon

from moss_step.cli import main
from moss_step.formats import coverage
from moss_step.formats.mesh import mesh_of
from moss_step.formats.shapefile import short_names
from moss_step.kinds.registry import kind_of
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.outcome import Outcome
from moss_step.model.shapes import Shapes
from moss_step.model.table import Table
from moss_step.model.units import METRE
from moss_step.scene.bundle import hand_on_several
from moss_step.study.engine import Engine
from moss_step.study.graph import Step, Study
from moss_step.study.hand_on import hand_on
from moss_step.study.saving import save_study
from tests.conftest import UTM, surface
from tests.grounds import GROUNDS
from tests.scene.test_sheet import study_of


@pytest.fixture
def study(hills_tif: Path) -> Study:
    study = study_of(hills_tif)
    for step in (
        Step(id="basins", kind="basins", inputs={"dem": "ground"}, settings={"min_area": 400.0}),
        Step(id="line", kind="profile", inputs={"surface": "ground"}, settings={"line": [412_010, 5_871_900, 412_220, 5_871_850]}),
    ):  # fmt: skip
        study = study.adding(step)
    return study.with_key_row(
        study.first_row("basins").model_copy(update={"column": "area_m2", "count": 4, "method": "natural"})
    )


def areas() -> Shapes:
    shapes = [Polygon([(x, 0), (x + 8, 0), (x + 8, 9), (x, 9)]) for x in (0, 20, 40)]
    columns = {
        "name": np.array(["Höhe", "=1+2", "plain"], object),
        "mean_slope_of_the_ground": np.array([1.5, np.nan, 3.25]),
        "mean_slope_of_the_water": np.array([1.0, 2.0, 3.0]),
        "cells": np.array([3, 4, 5]),
        "kept": np.array([True, False, True]),
    }
    moved = shapely.transform(np.array(shapes, object), lambda xy: xy + np.array([412_000, 5_871_000]))
    return Shapes(moved, columns, UTM)


def test_shapes_as_geoparquet_hold_values_units_and_system(tmp_path: Path) -> None:
    shapes = areas()
    hand_on(Outcome(shapes, ""), "areas", tmp_path / "a.parquet")
    table = parquet.read_table(tmp_path / "a.parquet")
    geo = json.loads(table.schema.metadata[b"geo"])
    column = geo["columns"][geo["primary_column"]]
    assert (
        geo["version"] == "1.1.0" and column["encoding"] == "WKB" and column["geometry_types"] == ["Polygon"]
    )
    assert column["crs"]["id"] == {"authority": "EPSG", "code": 32628} and column["bbox"] == list(shapes.box)
    read = shapely.from_wkb(table[geo["primary_column"]].to_pylist())
    assert all(a.equals(b) for a, b in zip(read, shapes.geometry, strict=True))
    assert table["name"].to_pylist() == ["Höhe", "=1+2", "plain"] and table["kept"].to_pylist() == [
        True,
        False,
        True,
    ]
    assert np.array_equal(table["mean_slope_of_the_ground"].to_numpy(), shapes.columns["mean_slope_of_the_ground"], equal_nan=True)  # fmt: skip
    first = (tmp_path / "a.parquet").read_bytes()
    hand_on(Outcome(shapes, ""), "areas", tmp_path / "a.parquet")
    assert (tmp_path / "a.parquet").read_bytes() == first


def test_a_spreadsheet_holds_numbers_and_no_formula(tmp_path: Path) -> None:
    hand_on(Outcome(areas(), ""), "areas", tmp_path / "a.xlsx")
    book = load_workbook(tmp_path / "a.xlsx")
    rows = list(book["Rows"].values)
    assert rows[0][0] == "name" and [r[0] for r in rows[1:]] == ["Höhe", "=1+2", "plain"]
    assert all(c.data_type != "f" for line in book["Rows"].iter_rows() for c in line)
    assert rows[1][1] == 1.5 and rows[2][1] is None and rows[3][3] == 5 and rows[1][4] is True
    table = Table({"z": np.array([1.0, 2.0]), "n": np.array([1, 2])}, {"z": METRE})
    hand_on(Outcome(table, ""), "t", tmp_path / "t.xlsx")
    assert [r[:2] for r in load_workbook(tmp_path / "t.xlsx")["Columns"].values][1] == ("z", "m")
    with zipfile.ZipFile(tmp_path / "t.xlsx") as held:
        times = re.findall(r">(\d{4}-[^<]*)<", held.read("docProps/core.xml").decode())
    assert len(times) == 2 and len(set(times)) == 1, "neither says when it was written"
    first = (tmp_path / "t.xlsx").read_bytes()
    hand_on(Outcome(table, ""), "t", tmp_path / "t.xlsx")
    assert (tmp_path / "t.xlsx").read_bytes() == first


def test_a_shapefile_says_what_it_loses(tmp_path: Path) -> None:
    shapes = areas()
    lost = hand_on(Outcome(shapes, ""), "areas", tmp_path / "a.shp")
    said = " ".join(lost)
    assert (
        "ten letters: mean_slope_of_the_ground as mean_slope" in said
        and "no yes and no" in said
        and "units" in said
    )
    meta, _, geometry, values = pyogrio.raw.read(tmp_path / "a.shp")
    fields = dict(zip(meta["fields"], values, strict=True))
    assert (
        meta["crs"]
        and "mean_slope" in fields
        and "mean_slo_2" in fields
        and list(fields["cells"]) == [3, 4, 5]
    )
    assert list(fields["name"]) == ["Höhe", "=1+2", "plain"] and fields["mean_slope"][0] == 1.5
    assert all(a.equals(b) for a, b in zip(shapely.from_wkb(geometry), shapes.geometry, strict=True))
    lines = Shapes(np.array([LineString([(0, 0), (1, 1)]), Point(0, 0)], object), {}, None)
    with pytest.raises(MossError, match="one kind of shapes"):
        hand_on(Outcome(lines, ""), "x", tmp_path / "x.shp")
    assert not list(tmp_path.glob("x.*")) and not list(tmp_path.glob(".moss*"))
    assert len({v.lower() for v in short_names([f"a_very_long_name_{k}" for k in range(30)]).values()}) == 30


@pytest.mark.parametrize("ending", [".glb", ".ply", ".obj"])
def test_a_mesh_has_the_heights_and_the_size_of_the_ground(tmp_path: Path, ending: str) -> None:
    import trimesh  # takes long to load

    values = np.add.outer(np.arange(6) * 3.0, np.arange(8) * 1.0) + 100
    values[0, 0] = np.nan
    ground = surface(values, dx=2.0, dy=8.0)
    hand_on(Outcome(ground, ""), "ground", tmp_path / f"g{ending}")
    mesh = trimesh.load(tmp_path / f"g{ending}", force="mesh")
    up, north = (1, 2) if ending == ".glb" else (2, 1)
    assert np.ptp(mesh.vertices, axis=0)[[0, north]] == pytest.approx([7 * 2.0, 5 * 8.0])
    assert np.ptp(mesh.vertices[:, up]) == pytest.approx(np.nanmax(values) - np.nanmin(values), abs=1e-4)
    assert (
        len(mesh.faces) == 2 * 5 * 7 - 1 and len(mesh.vertices) == 47
    )  # a corner is missing: one triangle less of two
    place = (tmp_path / f"g{ending}.place.txt").read_text()
    assert "UTM" in place and "height 101" in place
    # the exact area of a plane over the same corners
    flat, faces, _ = mesh_of(
        surface(np.add.outer(np.arange(6) * -8.0, np.arange(8) * 2.0) * 0.5 + 100, dx=2.0, dy=8.0)
    )
    a, b, c = flat[faces].transpose(1, 0, 2)
    whole = np.linalg.norm(np.cross(b - a, c - a), axis=1).sum() / 2
    assert whole == pytest.approx(14 * 40 * np.sqrt(1 + 0.25 + 0.25))


@pytest.mark.parametrize("name", sorted(GROUNDS))
def test_meshes_measure_the_common_grounds(name: str) -> None:
    ground = GROUNDS[name]
    corners, faces, _ = mesh_of(ground)
    assert len(corners) == ground.valid_count and faces.max() < len(corners)
    width = float(np.ptp(corners[:, 0]))
    held = np.flatnonzero(np.isfinite(ground.values).any(axis=0))
    middle = ground.frame.cell_metres[0] * (held[-1] - held[0])
    assert width == pytest.approx(middle, rel=0.02)
    assert np.ptp(corners[:, 2]) == pytest.approx(np.ptp(ground.values[np.isfinite(ground.values)]) * ground.metres_per_height, rel=1e-5)  # fmt: skip


def test_a_folder_of_results_has_an_index_styles_and_names_that_sort(study: Study, tmp_path: Path) -> None:
    engine, refs = Engine(), ["slope", "classes", "lines", "basins", "line"]
    entries = hand_on_several(study, refs, tmp_path / "out", engine)
    names = sorted(p.name for p in (tmp_path / "out").iterdir())
    assert [e.file for e in entries] == sorted(e.file for e in entries) and entries[0].file.startswith(
        "1_slope"
    )
    for entry in entries:
        assert entry.file in names and entry.lineage in names
    assert cog_validate(tmp_path / "out" / entries[0].file, quiet=True)[0]
    with rasterio.open(tmp_path / "out" / entries[1].file) as file:
        values = engine.run_or_raise(study, "classes").value
        assert np.array_equal(file.read(1), values.codes) and file.crs.to_epsg() == 32628 and file.colormap(1)[2][0] == 0x8A  # fmt: skip
    text = (tmp_path / "out" / "index.txt").read_text()
    rows = list(csv.DictReader((tmp_path / "out" / "index.csv").open()))
    assert [r["name"] for r in rows] == [study.name_of(r) for r in refs] and all(
        r["source"] == "hills.tif" for r in rows
    )
    assert all(e.name in text and e.file in text for e in entries)
    assert rows[0]["style"].endswith(".sld") and rows[4]["style"] == ""
    again = {p.name: p.read_bytes() for p in (tmp_path / "out").iterdir()}
    hand_on_several(study, refs, tmp_path / "twice", Engine())
    assert again == {p.name: p.read_bytes() for p in (tmp_path / "twice").iterdir()}


def test_styles_are_those_of_the_key(study: Study, tmp_path: Path) -> None:
    hand_on_several(study, ["slope", "classes", "basins", "lines"], tmp_path / "out", Engine())
    space = {"s": "http://www.opengis.net/sld", "ogc": "http://www.opengis.net/ogc"}

    def style(start: str) -> etree._ElementTree:
        return etree.parse(str(next((tmp_path / "out").glob(f"{start}*.sld"))))

    entries = style("2_").findall(".//s:ColorMapEntry", space)
    assert [(e.get("quantity"), e.get("color"), e.get("label")) for e in entries] == [("1", "#CFE0B4", "Level"), ("2", "#8A3A2A", "Steep")]  # fmt: skip
    assert style("2_").find(".//s:ColorMap", space).get("type") == "values"
    ramp = style("1_").findall(".//s:ColorMapEntry", space)
    values = [float(e.get("quantity")) for e in ramp]
    held = Engine().run_or_raise(study, "slope").value
    assert values == sorted(values) and values[0] == pytest.approx(held.range[0]) and values[-1] == pytest.approx(held.range[1])  # fmt: skip
    rules = style("3_").findall(".//s:Rule", space)
    column = {n.text for n in style("3_").findall(".//ogc:PropertyName", space)}
    assert len(rules) == 4 and column == {"area_m2"}
    bounds = [float(n.text) for n in style("3_").findall(".//ogc:Literal", space)]
    area = Engine().run_or_raise(study, "basins").value.columns["area_m2"]
    assert bounds[-1] == pytest.approx(area.max()) and bounds[0] <= area.min()
    assert style("4_").find(".//s:LineSymbolizer", space) is not None


def test_one_geopackage_holds_shapes_tables_grids_and_its_index(study: Study, tmp_path: Path) -> None:
    """Gridded coverages: OGC 17-066, read by rasterio and by SQL."""
    package, engine = tmp_path / "all.gpkg", Engine()
    entries = hand_on_several(study, ["slope", "basins", "classes", "lines", "line"], package, engine)
    layers = [e.file.split("#")[1] for e in entries]
    held = dict(pyogrio.list_layers(package))
    assert (
        set(held) == {layers[1], layers[3], layers[4], f"{layers[2]}_classes", "index"}
        and held[layers[4]] is None
    )
    meta, _, geometry, values = pyogrio.raw.read(package, layer=layers[1])
    basins = engine.run_or_raise(study, "basins").value
    fields = dict(zip(meta["fields"], values, strict=True))
    assert len(geometry) == len(basins) and np.array_equal(fields["area_m2"], basins.columns["area_m2"])
    slope, classes = (engine.run_or_raise(study, r).value for r in ("slope", "classes"))
    with rasterio.open(f"GPKG:{package}:{layers[0]}") as file:
        read = file.read(1, masked=True)
        assert (
            file.crs.to_epsg() == 32628
            and file.bounds == pytest.approx(slope.frame.box)
            and file.nodata == -9999
        )
        assert np.array_equal(read.filled(np.nan), slope.values, equal_nan=True)
    with rasterio.open(f"GPKG:{package}:{layers[2]}") as file:
        assert np.array_equal(file.read(1), classes.codes) and file.nodata == 255
    names = pyogrio.raw.read(package, layer=f"{layers[2]}_classes")[3]
    assert list(names[0]) == [1, 2] and list(names[1]) == ["Level", "Steep"]
    with closing(sqlite3.connect(package)) as opened:
        told = dict(
            opened.execute("SELECT tile_matrix_set_name, uom FROM gpkg_2d_gridded_coverage_ancillary")
        )
        kinds = dict(opened.execute("SELECT table_name, data_type FROM gpkg_contents"))
    assert told == {layers[0]: "degree", layers[2]: "class"} and kinds[layers[0]] == "2d-gridded-coverage"
    _, _, _, index = pyogrio.raw.read(package, layer="index")
    assert list(index[2]) == [e.name for e in entries] and (tmp_path / "all_index.txt").exists()


@pytest.mark.parametrize("name", sorted(GROUNDS))
def test_grids_in_a_geopackage_keep_the_common_grounds(tmp_path: Path, name: str) -> None:
    ground = GROUNDS[name]
    if not coverage.add_surface(tmp_path / "g.gpkg", ground, "ground"):
        assert ground.values.dtype == np.float64  # it goes beside the package, with all of its digits
        return
    with rasterio.open(f"GPKG:{tmp_path / 'g.gpkg'}:ground") as file:
        assert file.bounds == pytest.approx(ground.frame.box) and file.shape == ground.frame.shape
        assert np.array_equal(file.read(1, masked=True).filled(np.nan), ground.values, equal_nan=True)


def test_a_layer_that_is_written_leaves_grids_of_a_geopackage_alone(tmp_path: Path) -> None:
    """A package that holds nothing but a grid is not taken for an empty one."""
    package, ground = tmp_path / "g.gpkg", GROUNDS["square cells"]
    coverage.add_surface(package, ground, "ground")
    hand_on(Outcome(areas(), ""), "areas", package)
    assert [n for n, _ in pyogrio.list_layers(package)] == ["g"]
    with rasterio.open(f"GPKG:{package}:ground") as file:
        assert np.array_equal(file.read(1, masked=True).filled(np.nan), ground.values, equal_nan=True)


def test_formats_are_chosen_for_each_kind_and_wrong_ones_refused(study: Study, tmp_path: Path) -> None:
    chosen = {"surface": ".nc", "shapes": ".fgb", "chart": ".parquet"}
    entries = hand_on_several(study, ["slope", "basins", "line"], tmp_path / "out", Engine(), chosen)
    assert [Path(e.file).suffix for e in entries] == [".nc", ".fgb", ".parquet"]
    with pytest.raises(AskedWronglyError, match="There is no kind 'hill'"):
        hand_on_several(study, ["slope"], tmp_path / "x", Engine(), {"hill": ".tif"})
    with pytest.raises(AskedWronglyError, match="cannot be written as '.doc'"):
        hand_on_several(study, ["slope"], tmp_path / "x", Engine(), {"surface": ".doc"})
    with pytest.raises(AskedWronglyError, match="Nothing is chosen"):
        hand_on_several(study, [], tmp_path / "y", Engine())
    for ref in ("slope", "basins", "line"):
        kind = kind_of(Engine().run_or_raise(study, ref).value)
        assert set(kind.endings) <= set(kind.written_as)


def test_the_command_line_hands_several_on(
    study: Study, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    save_study(study, tmp_path / "s.moss")
    monkeypatch.chdir(tmp_path)

    def call(*words: str) -> tuple[int, str, str]:
        code = main(["hand-on", "s.moss", *words])
        return code, *capsys.readouterr()

    words = ["slope", "basins", "-o", "out", "--as", "surface=.nc", "--as", "shapes=shp", "--json"]
    program = [sys.executable, "-m", "moss_step", "hand-on", "s.moss", *words]
    done = subprocess.run(program, check=False, capture_output=True, text=True, timeout=300)
    rows = json.loads(done.stdout)["outputs"]
    assert (
        done.returncode == 0
        and [Path(r["file"]).suffix for r in rows] == [".nc", ".shp"]
        and rows[1]["remarks"]
    )
    assert call("slope", "-o", "out")[0] == 0  # its own folder is written again
    (tmp_path / "other").mkdir()
    (tmp_path / "other" / "mine.txt").write_text("mine")
    code, _, said = call("slope", "-o", "other")
    assert code == 2 and "holds other files" in said
    for words in (
        ["gone", "-o", "x"],
        ["slope", "-o", "x", "--as", "surface=.doc"],
        ["slope", "-o", "x", "--as", "nothing"],
    ):
        assert call(*words)[0] == 2 and not (tmp_path / "x").exists()
    code, listed, _ = call("-o", "all.gpkg")
    assert code == 0 and len(listed.splitlines()) >= 5
