"""What the package says of itself to a desktop and to a package index."""

import configparser
import sys
import tomllib
from pathlib import Path
from xml.etree import ElementTree

from moss_step import cli
from moss_step.desk.theme import ASSETS
from moss_step.study.saving import ENDING

ROOT = Path(__file__).parents[1]
ABOUT = tomllib.loads((ROOT / "pyproject.toml").read_text())
MIME = "{http://www.freedesktop.org/standards/shared-mime-info}"


def test_a_desktop_hands_files_over_and_knows_studies():
    """Keys of the desktop entry specification, and of shared MIME info (freedesktop.org)."""
    entry = configparser.ConfigParser(interpolation=None)
    entry.optionxform = str
    entry.read(ASSETS / "moss-step.desktop")
    desktop = entry["Desktop Entry"]
    program, files = desktop["Exec"].split()
    assert program in ABOUT["project"]["gui-scripts"] and files == "%F" and desktop["Type"] == "Application"
    kind = ElementTree.parse(ASSETS / "moss-step-study.xml").getroot().find(f"{MIME}mime-type")  # noqa: S314 - our own file
    assert (
        kind.get("type") in desktop["MimeType"].split(";")
        and kind.find(f"{MIME}glob").get("pattern") == f"*{ENDING}"
    )
    assert (ASSETS / f"{desktop['Icon']}.svg").is_file()
    installed = [Path(f) for files in ABOUT["tool"]["setuptools"]["data-files"].values() for f in files]
    assert {f.name for f in installed} == {
        "moss-step.desktop",
        "moss-step-study.xml",
        "moss-step.svg",
    } and all((ROOT / f).is_file() for f in installed)


def test_files_that_a_desktop_hands_over_are_opened(monkeypatch):
    asked = []
    monkeypatch.setattr(cli, "_window", lambda paths, **_: asked.append(paths) or 0)
    monkeypatch.setattr(sys, "argv", ["moss-step-window", "/a/b.moss", "--c.tif"])
    assert cli.open_window() == 0 and asked == [[Path("/a/b.moss"), Path("--c.tif")]]
    monkeypatch.setattr(sys, "argv", ["moss-step-window"])
    assert cli.open_window() == 0 and asked[-1] == []


def test_licences_of_what_is_shipped_lie_beside_it():
    listed = [ROOT / f for f in ABOUT["project"]["license-files"]]
    assert all(f.is_file() and len(f.read_text()) > 500 for f in listed)
    assert {f.parent.name for f in listed} >= {"fonts", "icons", "scene"}


def test_every_dependency_has_a_lower_bound_that_the_pinned_version_meets():
    pinned = dict(
        line.strip().lower().replace("_", "-").split("==")
        for line in (ROOT / "constraints.txt").read_text().splitlines()
        if "==" in line
    )
    for text in [*ABOUT["project"]["dependencies"], *ABOUT["project"]["optional-dependencies"]["dev"]]:
        name, mark, bound = text.split(",")[0].partition(">=")
        assert mark, text
        assert [int(n) for n in pinned[name.lower()].split(".")[:2]] >= [
            int(n) for n in bound.split(".")[:2]
        ], text
