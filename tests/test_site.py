"""The pages: they build offline without a warning, hold a page for each step, load nothing from elsewhere, and F1
opens the right one.
"""

import re
import subprocess
import sys
from pathlib import Path

import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from tools.site_pages import science_of

from moss_step.desk import pages
from moss_step.science.relief.gradient import slope
from moss_step.steps.catalogue import catalogue

ROOT = Path(__file__).parents[1]
LOADED = re.compile(r'<(?:script|img|link|iframe|source)[^>]*(?:src|href)="(https?:)?//')


@pytest.fixture(scope="module")
def site(tmp_path_factory):
    """All pages: `make demo` builds them, too, and ends where they cannot be."""
    target = tmp_path_factory.mktemp("site") / "site"
    done = subprocess.run(  # noqa: PLW1510 - what it says is shown
        [sys.executable, str(ROOT / "tools/make_site.py"), str(target)], capture_output=True, text=True
    )
    assert done.returncode == 0, done.stdout + done.stderr
    return target


@pytest.fixture(params=["titles", pytest.param("site", marks=pytest.mark.thorough)])
def opened_from(request):
    """Where pages lie: places of some alone, or all as they are built."""
    return request.getfixturevalue(request.param)


@pytest.fixture
def titles(tmp_path):
    """Places of some pages alone."""
    for name in ("water", "gather", "steps/slope"):
        page = tmp_path / "titles" / f"{name}.html"
        page.parent.mkdir(parents=True, exist_ok=True)
        page.write_text("<title>A page</title>")
    return tmp_path / "titles"


@pytest.mark.thorough
def test_every_step_has_its_page_with_example_science_and_picture(site):
    for name, kind in catalogue().items():
        text = (site / "steps" / f"{name}.html").read_text()
        plain = re.sub("<[^>]+>", "", text)
        assert f"moss_step.{name}(" in plain and f"moss-step do {name}" in plain, name
        assert f"_images/step-{name}.png" in text, name
        if kind.plan is None and name not in ("draw", "open_grid", "open_shapes"):
            assert "How it is worked out" in text or not science_of(kind), name
            assert ('id="formula"' in text) == bool(kind.formula), name
    text = (site / "steps/slope.html").read_text()
    assert (slope.__doc__ or "").split("\n")[0].split("(")[0].strip()[:40] in re.sub("<[^>]+>", "", text)


@pytest.mark.thorough
def test_nothing_is_loaded_from_elsewhere(site):
    loaded = [p.name for p in site.rglob("*.html") if LOADED.search(p.read_text())]
    assert not loaded and (site / "search.html").is_file()
    assert not [p.name for p in site.rglob("*.css") if re.search(r"url\(['\"]?https?:", p.read_text())]


@pytest.mark.thorough
def test_the_pages_name_no_folder_of_the_machine(site):
    assert not [p.name for p in site.rglob("*.html") if str(ROOT) in p.read_text()]


def test_f1_opens_the_page_of_what_is_shown(window, settle, opened_from, monkeypatch):
    opened = []
    monkeypatch.setattr(pages, "SITE", opened_from)
    monkeypatch.setattr(
        pages.QDesktopServices, "openUrl", lambda url: opened.append(url.toLocalFile()) or True
    )
    window.go_to_bench("water")
    QTest.keyClick(window, Qt.Key.Key_F1)
    window.files.open_demo()
    settle(window)
    window.begin_step("slope")
    settle(window)
    QTest.keyClick(window, Qt.Key.Key_F1)
    assert [Path(p).relative_to(opened_from).as_posix() for p in opened] == ["water.html", "steps/slope.html"]
    assert all(Path(p).is_file() for p in opened)


def test_without_pages_or_a_browser_it_says_what_to_do(window, tmp_path, opened_from, monkeypatch):
    monkeypatch.setattr(pages, "SITE", tmp_path)
    QTest.keyClick(window, Qt.Key.Key_F1)
    assert "make site" in window.plan.message.text
    monkeypatch.setattr(pages, "SITE", opened_from)
    monkeypatch.setattr(pages.QDesktopServices, "openUrl", lambda _: False)
    QTest.keyClick(window, Qt.Key.Key_F1)
    assert "No browser" in window.plan.message.text and "gather.html" in window.plan.message.text
