"""Tables of measured places: how they are read, what is found in them, and what is refused."""

import json
import time

import numpy as np
import pytest
import shapely

from moss_step.demo import DATA
from moss_step.formats.table import angle, number, read_table
from moss_step.model.errors import MossError
from moss_step.model.progress import silent
from moss_step.steps.catalogue import catalogue
from moss_step.steps.tables import lines_named
from moss_step.study.declared import run_declared
from tests.grounds import first


def opened(path, **settings):
    return run_declared(catalogue()["open_table"], {"source": str(path), **settings}, {}, silent())


def write(folder, text, encoding="utf-8"):
    path = folder / "t.csv"
    path.write_bytes(text.encode(encoding))
    return path


@pytest.mark.parametrize(
    ("text", "encoding"),
    [
        ("x,y,depth\n1,2,3.5\n4,5,6.25\n", "utf-8"),
        ("x;y;depth\n1;2;3,5\n4;5;6,25\n", "utf-8"),
        ("x\ty\tdepth\n1\t2\t3.5\n4\t5\t6.25\n", "utf-16"),
        ("# sounded in spring\nx|y|depth\n1|2|3.5\n\n4|5|6.25\n", "utf-8"),
        ("1 2 3.5\n4 5 6.25\n", "utf-8"),
        ('"x","y","depth"\n"1","2","3.5"\n"4","5","6.25"\n', "utf-8-sig"),
        ("Stelle;Easting;Northing;Tiefe (m);Depth\nä;1;2;9,9;3,5\nö;4;5;9,9;6,25\n", "cp1252"),
    ],
)
def test_what_parts_columns_and_numbers_is_found(tmp_path, text, encoding):
    shapes = opened(write(tmp_path, text, encoding)).value
    assert shapely.get_coordinates(shapes.geometry).tolist() == [[1.0, 2.0], [4.0, 5.0]]
    column = "depth" if "depth" in shapes.columns else "Depth" if "Depth" in shapes.columns else "column_3"
    assert shapes.columns[column].tolist() == [3.5, 6.25]


def test_a_wrong_guess_is_corrected_and_what_was_read_is_told(tmp_path):
    path = write(tmp_path, "a;b;c;d\n1;2;3;4\n5;6;7;8\n")
    with pytest.raises(MossError, match="which columns hold the places"):
        opened(path)
    outcome = opened(path, x="b", y="3", value="d", unit="foot")
    assert shapely.get_coordinates(outcome.value.geometry).tolist() == [[2.0, 3.0], [6.0, 7.0]]
    assert outcome.value.symbols["d"] == "ft"
    assert any("UTF-8" in w and "semicolons" in w for w in outcome.warnings)
    rows = outcome.beside["rows"]().value
    assert rows.columns["a"].tolist() == ["1", "5"] and rows.columns["line"].tolist() == [2, 3]


@pytest.mark.parametrize(
    ("text", "degrees"),
    [
        ("54°12'30.0\"N", 54.2083333), ("54 12 30 S", -54.2083333), ("W 16 18.5", -16.3083333),
        ("-16:18:30", -16.3083333), ("16.25", 16.25), ("54d12m30s", 54.2083333), ("54 72 00 N", np.nan),
        ("north", np.nan), ("", np.nan),
    ],
)  # fmt: skip
def test_degrees_minutes_and_seconds(text, degrees):
    assert angle(text) == pytest.approx(degrees, abs=1e-6, nan_ok=True)
    assert number("1,5", ",") == 1.5 and np.isnan(number("1,5")) and np.isnan(number("nan"))


def test_longitude_and_latitude_go_to_the_zone_that_holds_them(tmp_path):
    """pyproj (lib) carries them over, in the zone of 18 to 12 degrees west."""
    from pyproj import Transformer

    path = write(tmp_path, "lon,lat,height\n16°18'00\"W,52°58'00\"N,510\n16°17'30\"W,52°58'10\"N,512\n")
    outcome = opened(path)
    x, y = Transformer.from_crs(4326, 32628, always_xy=True).transform(-16.3, 52.0 + 58.0 / 60.0)
    assert outcome.value.crs == "EPSG:32628"
    assert shapely.get_coordinates(outcome.value.geometry)[0] == pytest.approx([x, y], abs=1e-3)
    assert any("EPSG:32628" in w for w in outcome.warnings)
    assert opened(path, metric=False).value.crs == "EPSG:4326"


def test_depths_become_heights_by_a_level_or_a_column_of_levels(tmp_path):
    path = write(tmp_path, "x,y,depth_ft,tide\n0,0,10,100\n1,0,20,101\n0,1,30,102\n")
    plain = opened(path).value
    assert plain.columns["height"].tolist() == [-10.0, -20.0, -30.0], "down is down"
    assert plain.symbols["depth"] == "ft"
    assert opened(path, water_level=500.0).value.columns["height"].tolist() == [490.0, 480.0, 470.0]
    assert opened(path, level_column="tide").value.columns["height"].tolist() == [90.0, 81.0, 72.0]
    heights = opened(path, measures="height", water_level=50.0).value
    assert heights.columns["depth"].tolist() == [40.0, 30.0, 20.0]


def test_rows_without_a_place_or_a_number_are_named(tmp_path):
    path = write(tmp_path, "x,y,depth\n0,0,1\n1,,2\n2,0,deep\n3,0,-9999\n4,0,3\n4,0,4\n5,0\n6,0,2\n")
    outcome = opened(path)
    said = " ".join(outcome.warnings)
    assert (
        "1 with no place are left out: line 3" in said
        and "2 with no number have no value: lines 4, 8" in said
    )
    assert "stands for no value have none: line 5" in said and "Another number of fields in line 8" in said
    assert "1 rows stand where another stands" in said
    assert outcome.value.columns["line"].tolist() == [2, 4, 5, 6, 7, 8, 9]
    assert np.isnan(outcome.value.columns["depth"]).tolist() == [False, True, True, False, False, True, False]


def test_lines_left_out_stay_with_their_reason():
    truth = json.loads((DATA / "harrow_tarn_truth.json").read_text())
    lines = truth["older_lines_of_blunders"]
    path = DATA / "harrow_soundings_older.csv"
    settings = {"x": "northing", "y": "easting", "crs": "EPSG:32628"}
    found = opened(path, **settings)
    said = next(w for w in found.warnings if w.startswith("Far from their neighbours"))
    assert all(str(n) in said for n in lines) and {f.name: f.value for f in found.findings}["far_values"] <= 8
    mended = opened(path, **settings, leave_out=", ".join(map(str, lines)), reason="weed on the line")
    assert len(mended.value) == len(found.value) - 3
    assert any("weed on the line" in w for w in mended.warnings)


def test_swapped_axes_are_found():
    swapped = opened(DATA / "harrow_soundings_older.csv", crs="EPSG:32628")
    right = opened(DATA / "harrow_soundings.csv", crs="EPSG:32628")
    assert any("swapped" in w for w in swapped.warnings) and not any("swapped" in w for w in right.warnings)


def test_lines_are_written_as_numbers_and_ranges():
    assert lines_named("12, 40-42") == {12, 40, 41, 42} and lines_named("") == set()
    for wrong in ("12-", "x", "1-99999999"):
        with pytest.raises(MossError, match="no line"):
            lines_named(wrong)


@pytest.mark.parametrize(
    ("text", "settings", "words"),
    [
        ("", {}, "empty"),
        ("x,y,depth\n", {}, "no rows"),
        ("alone\n1\n2\n", {}, "one column"),
        ("x,y,depth\n1,2,a\n3,4,b\n", {}, "holds no numbers"),
        ("lon,lat,depth\n10,95,1\n11,54,2\n12,54,3\n", {}, "beyond 90"),
        ("x,y,depth\na,b,1\n", {}, "No row has a place"),
        ("x,y,depth\n1,2,3\n", {"x": "wide"}, "no column 'wide'"),
        ("\0\1\2", {}, "no text"),
    ],
)  # fmt: skip
def test_what_cannot_be_read_is_refused_in_words(tmp_path, text, settings, words):
    with pytest.raises(MossError, match=words):
        opened(write(tmp_path, text), **settings)


@pytest.mark.parametrize("count", first([200_000, 1_000_000], 200_000))
def test_many_rows_with_one_that_is_none(count, tmp_path):
    rows = [f"{k % 1000},{k // 1000},{(k * 7) % 50}.5" for k in range(count)]
    rows[154_321] = "oops"
    outcome = opened(write(tmp_path, "x,y,depth\n" + "\n".join(rows) + "\n"))
    assert len(outcome.value) == count - 1 and any(
        "no place" in w and "154323" in w for w in outcome.warnings
    )


def test_the_table_knows_its_lines(tmp_path):
    table = read_table(write(tmp_path, "# one\n\nx,y,z\n1,2,3\n# two\n4,5,6\n"))
    assert table.lines.tolist() == [4, 6] and table.header


def test_hostile_text_ends_soon_and_in_words(tmp_path):
    """Fields of blanks that a pattern could go over again and again, and one that is longer than any."""
    blanks = f"lon,lat,depth\n10{' ' * 50_000}x,54,1\n" + "11,54,2\n" * 3
    start = time.process_time()
    assert len(opened(write(tmp_path, blanks)).value) == 3
    with pytest.raises(MossError):
        opened(write(tmp_path, 'x,y,depth\n1,2,"' + "9" * 200_000 + '"\n'))
    assert time.process_time() - start < 5.0
