"""What the package says of itself to a desktop and to a package index."""

import ast
import configparser
import re
import subprocess
import sys
import tomllib
from pathlib import Path
from xml.etree import ElementTree

from moss_step import cli
from moss_step.demo import DATA
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
    extras = ABOUT["project"]["optional-dependencies"]
    asked = [*ABOUT["project"]["dependencies"], *(text for texts in extras.values() for text in texts)]
    for text in (t for t in asked if not t.startswith("moss-step[")):
        name, mark, bound = text.split(",")[0].partition(">=")
        assert mark, text
        assert [int(n) for n in pinned[name.lower()].split(".")[:2]] >= [
            int(n) for n in bound.split(".")[:2]
        ], text


def test_the_core_runs_without_the_window_and_says_what_is_missing(tmp_path):
    """As after an installation without extras: what the window needs cannot be imported."""
    blocked = ("PySide6", "shiboken6", "pyqtgraph", "pyvista", "vtkmodules", "rapidfuzz", "skimage")
    (tmp_path / "core.py").write_text(
        f"import sys\nfrom importlib.abc import MetaPathFinder\nBLOCKED = {blocked!r}\n"
        "class Without(MetaPathFinder):\n"
        "    def find_spec(self, name, path, target=None):\n"
        "        if name.partition('.')[0] in BLOCKED:\n"
        "            raise ModuleNotFoundError(name)\n"
        "import importlib.util as util\n"
        "known = util.find_spec\n"
        "util.find_spec = lambda name, *a: None if name.partition('.')[0] in BLOCKED else known(name, *a)\n"
        "sys.meta_path.insert(0, Without())\n"
        "from moss_step.cli import program\nsys.exit(program())\n"
    )

    def said(*words):
        done = subprocess.run(  # noqa: PLW1510 - the code is what is asked
            [sys.executable, str(tmp_path / "core.py"), *words], capture_output=True, text=True, cwd=tmp_path
        )
        return done.returncode, done.stdout + done.stderr

    ground, study = DATA / "harrow_ground.tif", DATA / "harrow_moss.moss"
    assert said("do", "slope", f"dem={ground}", "-o", "slope.tif", "--quiet") == (0, "")
    assert said("run", str(study), "-o", "results", "--quiet") == (0, "")
    assert any((tmp_path / "results").iterdir()) and said("steps", "slope")[0] == 0
    code, text = said("demo")
    assert code == 1 and text.count("\n") == 1 and "pip install 'moss-step[window]'" in text


WITH_WORKERS = "crew.py", "hand.py", "hands.py"


def test_the_extras_name_all_that_is_imported():
    """The core imports nothing that it does not depend on, nor the window what its extras do not hold."""
    extras = ABOUT["project"]["optional-dependencies"]
    core = {name_of(t) for t in ABOUT["project"]["dependencies"]}
    window = core | {name_of(t) for t in extras["window"]} | {name_of(t) for t in extras["block"]}
    workers = core | {name_of(t) for t in extras["workers"]}
    assert {"pyside6-essentials", "pyqtgraph", "pyvista", "rapidfuzz", "distributed"} & core == set()
    for path in (ROOT / "src/moss_step").rglob("*.py"):
        allowed = window if "desk" in path.parts else workers if path.name in WITH_WORKERS else core
        for node in ast.walk(ast.parse(path.read_text())):
            names = (
                [a.name for a in node.names]
                if isinstance(node, ast.Import)
                else [node.module or ""]
                if isinstance(node, ast.ImportFrom) and not node.level
                else []
            )
            for top in {n.partition(".")[0] for n in names}:
                known = top in sys.stdlib_module_names or top in ("moss_step", "")
                assert known or HELD_BY.get(top, top.lower()) in allowed, (
                    path,
                    top,
                )


HELD_BY = {
    "PIL": "pillow",
    "sklearn": "scikit-learn",
    "PySide6": "pyside6-essentials",
    "shiboken6": "pyside6-essentials",
    "llvmlite": "numba",
}


def name_of(requirement: str) -> str:
    return re.split(r"[><=!\[]", requirement)[0].lower()


def test_the_licence_and_the_classifiers_say_what_is_shipped():
    about = ABOUT["project"]
    assert (
        set(about["urls"]) >= {"Homepage", "Documentation", "Changelog"}
        and about["license"] == "MIT AND OFL-1.1"
        and "Operating System :: POSIX :: Linux" in about["classifiers"]
    )
    assert "license: [MIT, OFL-1.1]" in (ROOT / "CITATION.cff").read_text()
