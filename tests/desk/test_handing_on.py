"""Handing data and whole studies on in the real window."""

from __future__ import annotations

import json
import shutil
import zipfile
from pathlib import Path

import pypdf
import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QFileDialog, QMenu

from moss_step.demo import DATA
from tests.desk.driving import LEFT, named, press, until
from tests.desk.test_page_by_hand import click, page, pages


@pytest.fixture
def sheet(demo, settle):
    QTest.mouseClick(demo.header.benches["sheet"], LEFT)
    settle(demo)
    return demo.benches["sheet"]


def choose_file(monkeypatch: pytest.MonkeyPatch, path: Path) -> None:
    monkeypatch.setattr(QFileDialog, "getSaveFileName", staticmethod(lambda *_: (str(path), "")))
    monkeypatch.setattr(QFileDialog, "getOpenFileName", staticmethod(lambda *_: (str(path), "")))


def test_several_results_go_into_a_folder_or_one_geopackage(
    demo, sheet, settle, tmp_path, monkeypatch
) -> None:
    press(sheet, "What is handed on: Data")
    settle(demo)
    data = sheet.data
    assert data.several.count() == len(demo.work.study.refs(asked=False)) and not data.ticked
    choose_file(monkeypatch, tmp_path / "none")
    press(sheet, "Into a folder")
    settle(demo)
    assert "Nothing is chosen" in demo.plan.message.text
    for k in (4, 5):
        data.several.item(k).setCheckState(Qt.CheckState.Checked)
    data._fill_formats()
    menus = data.formats_button.menu().findChildren(QMenu)
    actions = [a for menu in menus if menu.title() == "Surface" for a in menu.actions()]
    next(a for a in actions if a.text() == "NetCDF (.nc)").trigger()
    choose_file(monkeypatch, tmp_path / "given")
    press(sheet, "Into a folder")
    settle(demo)
    names = sorted(p.name for p in (tmp_path / "given").iterdir())
    assert (
        "index.txt" in names
        and any(n.startswith("1_") for n in names)
        and any(n.endswith(".sld") for n in names)
    )
    assert any(n.startswith("1_slope") and n.endswith(".nc") for n in names)
    assert "2 results" in demo.plan.message.text
    press(sheet, "All")
    assert len(data.ticked) == data.several.count()
    choose_file(monkeypatch, tmp_path / "all.gpkg")
    press(sheet, "Into one GeoPackage")
    settle(demo)
    until((tmp_path / "all.gpkg").exists, "no package")
    assert (tmp_path / "all_index.txt").exists()


def test_a_result_is_written_in_more_formats(demo, sheet, settle, tmp_path, monkeypatch) -> None:
    sheet.offer("places")
    settle(demo)
    assert sheet.ways.value == "data" and demo.plan.laid is None
    menu = next(
        m for m in sheet.data.findChildren(type(pages(demo).adder)) if m.text() == "More formats"
    ).menu()
    titles = [a.text() for a in menu.actions()]
    assert "Shapefile (.shp)" in titles and "Spreadsheet (.xlsx)" in titles
    choose_file(monkeypatch, tmp_path / "places.xlsx")
    next(a for a in menu.actions() if a.text() == "Spreadsheet (.xlsx)").trigger()
    settle(demo)
    assert (tmp_path / "places.xlsx").exists()


def test_a_parcel_is_handed_to_a_fresh_folder_checked_and_a_figure_followed_back(
    demo, sheet, settle, tmp_path, monkeypatch
) -> None:
    demo.work.choose("classes")
    settle(demo)
    press(sheet, "What is handed on: Page")
    settle(demo)
    press(sheet, "Figures with lineage")
    settle(demo)
    press(sheet, "What is handed on: Study")
    settle(demo)
    parcel = tmp_path / "harrow.parcel.zip"
    choose_file(monkeypatch, parcel)
    press(sheet, "Pack the study")
    settle(demo)
    assert parcel.exists() and "figures" in demo.plan.message.text
    away = tmp_path / "elsewhere"
    away.mkdir()
    shutil.move(parcel, away / parcel.name)
    monkeypatch.setattr(demo.files, "may_leave", lambda: True)
    demo.files.open_path(away / parcel.name)
    settle(demo)
    assert demo.work.path == away / "harrow" / "study.moss" and len(demo.work.study.pages) == 1
    assert all(str(away) in f for f in demo.work.study.source_files)
    demo.go_to_bench("sheet")
    press(sheet, "What is handed on: Study")
    settle(demo)
    choose_file(monkeypatch, away / parcel.name)
    press(sheet, "Check a parcel")
    settle(demo)
    assert "all the same" in demo.plan.message.text
    press(sheet, "What is handed on: Page")
    settle(demo)
    click(demo, settle, "words", across=0.2, down=0.2)
    said = pages(demo).trail.text
    assert "Slope classes" in said and "harrow_ground.tif (BLAKE3" in said
    digest = demo.work.engine.file_hash(str(away / "harrow" / "sources" / "001" / "harrow_ground.tif"))
    assert digest is not None and digest[:16] in said
    demo.files.open_path(away / parcel.name)
    settle(demo)
    assert demo.work.path == away / "harrow-2" / "study.moss" and page(demo).name == "Slope classes"
    bad = away / "bad.parcel.zip"
    with zipfile.ZipFile(bad, "w") as out:
        out.writestr("../x", "x")
    demo.files.open_path(bad)
    settle(demo)
    assert "would lie elsewhere" in demo.plan.message.text and not (tmp_path / "x").exists()


def test_scripts_and_lineage_of_the_study_are_written(demo, sheet, settle, tmp_path, monkeypatch) -> None:
    press(sheet, "What is handed on: Study")
    settle(demo)
    for name, control in (("s.py", "The study as a script"), ("s.sh", "The study as a script"), ("l.json", "Lineage of the study"), ("l.pdf", "Lineage of the study")):  # fmt: skip
        choose_file(monkeypatch, tmp_path / name)
        press(sheet, control)
        settle(demo)
        until((tmp_path / name).exists, name)
    assert (
        "moss_step.slope(" in (tmp_path / "s.py").read_text()
        and "moss-step do slope" in (tmp_path / "s.sh").read_text()
    )
    assert "ms:step-slope" in json.loads((tmp_path / "l.json").read_text())["activity"]
    assert "Slope classes" in pypdf.PdfReader(tmp_path / "l.pdf").pages[0].extract_text()
    choose_file(monkeypatch, tmp_path / "s.bat")
    press(sheet, "The study as a script")
    settle(demo)
    assert not (tmp_path / "s.bat").exists()
    linked = tmp_path / "linked.tif"
    linked.symlink_to(demo.work.study.source_files[0])
    before = linked.read_bytes()
    choose_file(monkeypatch, linked)
    press(sheet, "Lineage of the study")
    settle(demo)
    assert "is read for this" in demo.plan.message.text and linked.read_bytes() == before
    assert named(sheet, "Check a parcel") and DATA.exists()
