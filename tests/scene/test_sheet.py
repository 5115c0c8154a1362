"""What stands on a page, without a window: scale, nets, norths, greys, fields, rows, lineage, and putting in order.

The compass: three of the World Magnetic Model 2025's own test values (NOAA NCEI and BGS, WMM2025 test values; from
memory): 2025.0 at the ellipsoid, 80 N 0 E 1.28, 0 N 120 E -0.16, 80 S 240 E 68.78 degrees. Grid convergence:
pyproj's own factors (library). Lightness: scikit-image's CIE L*a*b* (library).
"""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from pydantic import ValidationError
from pyproj import Geod, Proj

from moss_step.line import sheeting
from moss_step.model.errors import AskedWronglyError
from moss_step.model.frame import Frame
from moss_step.scene.picture import Legend
from moss_step.scene.sheet.greys import alike_in_grey, lightness
from moss_step.scene.sheet.ground import (
    View,
    degrees_text,
    metres_at,
    net_of,
    round_scale,
    scene_for,
    view_of,
)
from moss_step.scene.sheet.layouts import LAYOUTS
from moss_step.scene.sheet.moment import moment, wanted_by
from moss_step.scene.sheet.north import declination_at, norths
from moss_step.scene.sheet.rows import rows_of_result
from moss_step.scene.sheet.sheet import sheets_of
from moss_step.scene.sheet.trail import trail_lines
from moss_step.scene.sheet.words import filled, scale_text
from moss_step.study.engine import Engine
from moss_step.study.graph import Shading, Step, Study
from moss_step.study.pages import (
    Atlas,
    FramePart,
    Page,
    PlanPart,
    TablePart,
    TextPart,
    aligned,
    changed,
    made,
    page_telling,
    page_values,
    reordered,
    snapped,
)
from moss_step.study.saving import as_data, from_data, load_study, save_study

FRAMES = {
    "square": Frame(90, 120, 412_000.0, 5_872_000.0, 2.0, 2.0, "EPSG:32628"),
    "four to one": Frame(90, 120, 412_000.0, 5_872_000.0, 2.0, 8.0, "EPSG:32628"),
    "feet": Frame(90, 120, 2_700_000.0, 250_000.0, 10.0, 10.0, "EPSG:2272"),
    "degrees at 5": Frame(90, 120, 30.0, 5.0, 1e-4, 1e-4, "EPSG:4326"),
    "degrees at 65": Frame(90, 120, 30.0, 65.0, 1e-4, 2e-4, "EPSG:4326"),
}


def rules(bound: float) -> list[dict[str, object]]:
    """Two classes of slope."""
    return [
        {"low": 0.0, "high": bound, "code": 1, "name": "Level", "color": "#CFE0B4"},
        {"low": bound, "high": None, "code": 2, "name": "Steep", "color": "#8A3A2A"},
    ]


def study_of(path: Path) -> Study:
    """A ground with slope, classes and contours, and a page of each layout to come."""
    steps = (
        Step(id="ground", kind="open_grid", settings={"source": str(path)}),
        Step(id="slope", kind="slope", inputs={"dem": "ground"}),
        Step(id="classes", kind="classify", inputs={"surface": "slope"}, settings={"rules": rules(5.0)}),
        Step(id="lines", kind="contours", inputs={"dem": "ground"}, settings={"interval": 20.0}),
    )  # fmt: skip
    study = Study(name="Trial", steps=steps, shading=Shading(ground="ground"))
    for ref in ("ground", "classes", "lines"):
        study = study.with_key_row(study.first_row(ref))
    return study


@pytest.fixture
def study(hills_tif: Path) -> Study:
    return study_of(hills_tif)


def sheet_of(study: Study, page: Page, file: str = ""):
    engine = Engine()
    return sheets_of(moment(engine, study, page), page, file, engine.file_hash)[0]


@pytest.mark.parametrize("name", FRAMES)
@pytest.mark.parametrize("turned", [0.0, 30.0])
def test_a_scale_is_true_along_both_axes(name: str, turned: float) -> None:
    frame, n = FRAMES[name], 5000.0
    x, y = frame.x_of(60), frame.y_of(45)
    view = View(x, y, metres_at(frame, x, y), n, turned)
    for dx, dy in ((20 * frame.dx, 0.0), (0.0, 20 * frame.dy)):
        if frame.geographic:
            metres = Geod(ellps="WGS84").inv(x - dx, y - dy, x + dx, y + dy)[2]
        else:
            metres = np.hypot(2 * dx, 2 * dy) * frame.metres_per_unit
        (ax, ay), (bx, by) = (view.place(x + s * dx, y + s * dy, 100.0, 80.0) for s in (-1, 1))
        assert np.hypot(bx - ax, by - ay) == pytest.approx(metres / n * 1000.0, rel=2e-6)
        assert view.ground(ax, ay, 100.0, 80.0) == pytest.approx((x - dx, y - dy), abs=1e-9 * abs(x))


def test_a_plan_that_is_turned_clockwise_has_its_north_to_the_right() -> None:
    view = View(0.0, 0.0, (1.0, 1.0), 1000.0, 90.0)
    assert view.place(0.0, 10.0, 100.0, 80.0) == pytest.approx((60.0, 40.0))


@pytest.mark.parametrize("pixel", [0.22, 0.35])
def test_the_camera_of_a_plan_has_its_middle_in_the_middle(pixel: float) -> None:
    frame = FRAMES["degrees at 65"]
    x, y = frame.x_of(60), frame.y_of(45)
    view = View(x, y, metres_at(frame, x, y), 5000.0, 0.0)
    camera = view.camera(101.3, 77.7, pixel)
    px, py = camera.pixel(x, y)
    assert (px * pixel, py * pixel) == pytest.approx((101.3 / 2, 77.7 / 2), abs=1e-6)
    right = camera.pixel(x + 10 * frame.dx, y)[0] * pixel
    assert right == pytest.approx(view.place(x + 10 * frame.dx, y, 101.3, 77.7)[0], abs=1e-6)


def test_a_plan_without_a_scale_takes_a_round_one_that_shows_all(study: Study) -> None:
    part = PlanPart(id="plan", width=100, height=80)
    sheet = sheet_of(study, Page(name="p", parts=(part,)))
    view = view_of(sheet, part, scene_for(sheet, ()))
    assert (
        view is not None and view.scale == round_scale(view.scale) == 2500.0
    )  # 240 m on 100 mm with a margin
    assert round_scale(1001) == 1250 and round_scale(1000) == 1000 and round_scale(7600) == 10_000


def test_nets_lie_at_round_places_and_say_them(study: Study) -> None:
    part = PlanPart(id="plan", width=100, height=80, net="metres", net_step=50)
    sheet = sheet_of(study, Page(name="p", parts=(part,)))
    view = view_of(sheet, part, scene_for(sheet, ()))
    assert view is not None
    lines = net_of(part, view, sheet.now.frame)
    across = {ln.text: ln.xy[0, 0] for ln in lines if ln.upright}
    assert across["412 100"] == 412_100 and all(x % 50 == 0 for x in across.values())
    degrees = net_of(part.model_copy(update={"net": "degrees", "net_step": 0.0}), view, sheet.now.frame)
    assert degrees and all("°" in ln.text for ln in degrees)
    held = next(ln for ln in degrees if ln.upright)
    lon, _ = Proj("EPSG:32628")(held.xy[:, 0], held.xy[:, 1], inverse=True)
    assert np.ptp(lon) < 1e-9 and degrees_text(float(lon[0]), "EW") == held.text
    assert degrees_text(-1.5, "EW") == "1°30′ W" and degrees_text(0.0, "NS") == "0°"


def test_lines_of_a_net_finer_than_a_metre_say_so() -> None:
    part = PlanPart(id="plan", width=100, height=80, net="metres", net_step=0.5)
    frame = FRAMES["square"]
    view = View(412_010.0, 5_871_990.0, (1.0, 1.0), 20.0, 0.0)
    across = {ln.text: ln.xy[0, 0] for ln in net_of(part, view, frame) if ln.upright}
    assert across["412 009.5"] == 412_009.5 and across["412 010.0"] == 412_010.0


def test_norths_are_told_apart() -> None:
    frame = FRAMES["square"]
    x, y = 412_000.0, 5_872_000.0
    lon, lat = Proj("EPSG:32628")(x, y, inverse=True)
    convergence = Proj("EPSG:32628").get_factors(lon, lat).meridian_convergence
    held = norths(frame, x, y, 0.0, 2026.0, with_magnetic=True)
    assert held.grid == 0.0 and held.true == pytest.approx(-convergence, abs=0.01)
    assert held.magnetic == pytest.approx(held.true + declination_at(lon, lat, 2026.0), abs=1e-6)
    assert any("grid north" in w for w in held.words) and any("2026" in w for w in held.words)
    turned = norths(frame, x, y, 20.0, 2026.0, with_magnetic=False)
    assert turned.grid == 20.0 and turned.magnetic is None
    assert norths(replace(frame, crs=None), x, y, 0.0, 2026.0, True).true is None
    degrees = FRAMES["degrees at 65"]
    assert norths(degrees, 30.0, 65.0, 0.0, 2026.0, False).true == 0.0


@pytest.mark.parametrize(("lat", "lon", "declination"), [(80, 0, 1.28), (0, 120, -0.16), (-80, 240, 68.78)])
def test_the_compass_is_that_of_the_model(lat: float, lon: float, declination: float) -> None:
    assert declination_at(lon, lat, 2025.0) == pytest.approx(declination, abs=0.006)


def test_greys_that_cannot_be_told_apart_are_said() -> None:
    from skimage.color import rgb2lab

    rgb = np.array([[76, 107, 52], [185, 101, 42], [0, 0, 0], [255, 255, 255], [3, 2, 1]], np.uint8)
    assert lightness(rgb) == pytest.approx(rgb2lab(rgb[None])[0, :, 0], abs=0.05)
    assert "'a' and 'b'" in alike_in_grey("x", Legend((("a", "#CC0000"), ("b", "#007700"))))
    assert alike_in_grey("x", Legend((("a", "#000000"), ("b", "#FFFFFF")))) == ""


def test_fields_follow_the_study_and_never_tell_an_old_number(study: Study) -> None:
    words = "{study}, {file}: {name slope} {headline slope} {figure classes share of Steep} {figure classes gone} {x}"
    page = Page(name="p", author="A. Person", parts=(TextPart(id="t", text=words),))
    sheet = sheet_of(study, page, "trial.moss")
    text = filled(sheet, words)
    said = sheet.now.said["classes"]
    share = next(f for f in said.findings if f.name == "share" and f.of == "Steep")
    assert text.startswith("Trial, trial.moss: Slope, ") and f"{share.value:.1%}".replace("%", " %") in text
    assert "[removed]" in text and text.endswith("{x}")
    steeper = study.changing("classes", lambda s: s.model_copy(update={"settings": {"rules": rules(20.0)}}))
    after = filled(sheet_of(steeper, page), words)
    assert after != text.replace("trial.moss", "")
    without = filled(sheet_of(study.removing("classes"), page), "{figure classes share of Steep}")
    assert without == "[removed]"
    failing = study.changing("ground", lambda s: s.model_copy(update={"settings": {"source": "/gone.tif"}}))
    assert filled(sheet_of(failing, page), "{figure classes share of Steep}") == "[failed]"


def test_a_scale_is_told_as_it_is() -> None:
    told = {
        5000: "1:5,000",
        5025: "1:5,025",
        12_500: "1:12,500",
        1_250_000: "1:1,250,000",
        7.5: "1:7.5",
        0: "",
    }
    assert {scale: scale_text(scale) for scale in told} == told


def test_rows_of_classes_and_of_shapes(study: Study) -> None:
    table = TablePart(id="t", result="classes")
    sheet = sheet_of(study, Page(name="p", parts=(table, TablePart(id="l", result="lines"))))
    rows = rows_of_result(sheet, table)
    assert rows.heads[0] == "Class" and [c[0] for c in rows.cells] == ["Level", "Steep"] and all(rows.colors)
    value = sheet.now.pictures["lines"].value
    column = next(n for n, v in value.columns.items() if v.dtype.kind == "f")
    few = rows_of_result(
        sheet,
        TablePart(id="l", result="lines", columns=(column,), rows=3, by=column, down=True, sums=(column,)),
    )
    assert len(few.cells) == 3 and few.left == len(value) - 3 and few.sums[0] != ""
    highest = sorted(value.columns[column])[::-1][:3]
    assert [float(c[0].replace(" ", "")) for c in few.cells] == pytest.approx(highest, abs=0.01)
    gone = rows_of_result(sheet, TablePart(id="g", result="slope-9"))
    assert gone.remark == "[removed]" and not gone.cells


def test_a_page_says_how_what_it_draws_came_about(study: Study, hills_tif: Path) -> None:
    page = Page(name="p", parts=(PlanPart(id="plan", results=("classes",)),))
    sheet = sheet_of(study, page)
    text = [line for line, _, _ in trail_lines(sheet, ())]
    assert any("hills.tif (BLAKE3 " in line for line in text)
    assert any(line.startswith("3. ") and "of 2" in line and "Level" in line for line in text)
    assert "Contours" not in " ".join(text)


def test_layouts_draw_what_is_chosen_and_need_only_that(study: Study) -> None:
    engine = Engine()
    assert tuple(LAYOUTS) == sheeting._LAYOUTS
    for key, layout in LAYOUTS.items():
        page = layout.page(moment(engine, study, Page(name="x")), "P", (), "classes")
        assert page.parts and wanted_by(study, page), key
        width, height = page.size
        for part in page.parts:
            assert part.x >= page.margin - 0.01 and part.right <= width - page.margin + 0.01, (key, part.id)
            assert part.y >= page.margin - 0.01 and part.bottom <= height - page.margin + 0.01, (key, part.id)


def test_an_atlas_has_a_page_for_each_area_in_the_order_of_a_column(study: Study) -> None:
    study = study.adding(Step(id="basins", kind="basins", inputs={"dem": "ground"}))
    page = Page(name="a", parts=(PlanPart(id="plan", scale=5000),), atlas=Atlas(areas="basins", by="area_m2"))
    engine = Engine()
    now = moment(engine, study, page)
    sheets = sheets_of(now, page)
    areas = [s.area.columns["area_m2"] for s in sheets if s.area is not None]
    assert len(sheets) == len(now.pictures["basins"].value) > 1 and areas == sorted(areas)
    last = sheets[-1]
    view = view_of(last, page.parts[0], scene_for(last, ()))
    west, south, east, north = last.area.box
    assert view.scale == 5000 and (view.x, view.y) == pytest.approx(((west + east) / 2, (south + north) / 2))
    assert filled(last, "{area}: {area area_m2} ({number} of {pages})").startswith(last.area.name + ": ")
    assert "[removed: gone]" in filled(last, "{area gone}")
    fits = page.with_parts([PlanPart(id="plan")])
    shown = view_of(sheets_of(now, fits)[0], fits.parts[0], scene_for(last, ()))
    assert shown.scale <= view_of(sheets_of(now, fits)[-1], fits.parts[0], scene_for(last, ())).scale


def test_a_study_with_pages_is_read_as_it_was_saved_and_one_without_stays_readable(
    study: Study, tmp_path: Path
) -> None:
    parts = (PlanPart(id="plan"), TextPart(id="words", text="{study}"), FramePart(id="rim"))
    held = study.with_page(Page(name="p", parts=parts, atlas=Atlas(areas="lines")))
    save_study(held, tmp_path / "s.moss")
    assert load_study(tmp_path / "s.moss").pages == held.pages
    assert as_data(study)["moss_step_study"] == 2 and as_data(held)["moss_step_study"] == 3
    twice = as_data(held)
    twice["pages"] = twice["pages"] * 2
    with pytest.raises(Exception, match="two pages have one name"):
        from_data(twice, tmp_path / "s.moss")
    with pytest.raises(AskedWronglyError, match="It has: p"):
        held.page("q")


def test_parts_are_checked_put_in_order_aligned_and_snapped() -> None:
    a, b = (
        FramePart(id="a", x=10, y=12, width=30, height=20),
        FramePart(id="b", x=60, y=50, width=40, height=20),
    )
    page = Page(name="p", parts=(a, b))
    with pytest.raises(ValidationError):
        changed(a, width=0.1)
    assert [p.id for p in reordered(page, ["a"], up=True).parts] == ["b", "a"]
    assert aligned([a, b], "right") == {"a": (70.0, 12), "b": (60.0, 50)}
    assert aligned([a, b.model_copy(update={"locked": True})], "top") == {"a": (10, 12)}
    by, guide = snapped(page, ["b"], 39.2, 79.2, 1.5)
    assert (by, guide) == (pytest.approx(0.8), 40.0)  # its left edge meets the right edge of the other
    assert snapped(page, ["b"], 45.1, 51.3, 0.5) == (0.0, None)
    assert page.size == (297.0, 210.0) and Page(name="q", paper="Own", own=(100, 50)).size == (100, 50)


def test_a_page_is_told_its_paper_and_its_atlas_by_name() -> None:
    page = Page(name="P")
    own = page_telling(page_telling(page, "paper", "Own"), "own_height", 500.0)
    assert own.size == (297.0, 500.0) and page_values(own)["own_height"] == 500.0
    atlas = page_telling(page_telling(page, "atlas_areas", "basins"), "atlas_margin", 0.5)
    assert atlas.atlas == Atlas(areas="basins", margin=0.5) and page_values(atlas)["atlas_by"] == ""
    assert page_telling(atlas, "atlas_areas", "").atlas is None
    for name, value in (("own_width", 1.0), ("atlas_margin", -1.0), ("paper", "B4"), ("name", "")):
        with pytest.raises(ValidationError):
            page_telling(atlas, name, value)


def test_a_part_is_made_of_its_kind_and_each_has_its_own_name() -> None:
    part = made("text", id="t", text="{study}")
    assert part == TextPart(id="t", text="{study}")
    for kind, values in (("wall", {"id": "w"}), ("text", {"id": "a b"}), ("plan", {"id": "p", "scale": 0.5})):
        with pytest.raises(ValidationError):
            made(kind, **values)
    with pytest.raises(ValidationError, match="two parts are called 't'"):
        Page(name="P", parts=(part, part))
