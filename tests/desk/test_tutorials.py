"""The pages from a question to a sheet, done in the real window and on the command line as they are written.

Each line of "In the window" is a sentence that this test knows how to do; what it does not know, it refuses.
"""

import re
import shlex
import shutil
from pathlib import Path

import pytest
from PySide6.QtTest import QTest

from moss_step.cli import main
from moss_step.demo import DATA
from tests.desk.driving import LEFT, pixel, press
from tests.desk.jobs import choose_input, fill, keep

PAGES = sorted((Path(__file__).parents[2] / "docs/tutorials").glob("*.md"))


def part(page: Path, title: str) -> str:
    return page.read_text().partition(f"## {title}\n")[2].partition("\n## ")[0]


def rules_of(page: Path, folder: Path) -> None:
    """Write the file that a page shows."""
    shown = re.search("```csv\n(.*?)```", page.read_text(), re.DOTALL)
    if shown:
        (folder / "office.csv").write_text(shown[1])


class Person:
    """Does what a sentence says."""

    def __init__(self, window, settle, folder: Path, monkeypatch) -> None:
        self.window, self.settle, self.folder = window, settle, folder
        self.monkeypatch = monkeypatch

    @property
    def bench(self):
        return self.window.benches[self.window.bench]

    def turn(self, name: str) -> None:
        QTest.mouseClick(self.window.header.benches[name.lower()], LEFT)

    def choose(self, title: str) -> None:
        press(self.bench, f"Step: {title}")

    def click(self, place: str) -> None:
        x, y = map(float, place.split(","))
        QTest.mouseClick(self.window.plan.view, LEFT, pos=pixel(self.window, x, y))

    def set(self, title: str, value: str) -> None:
        fields = self.bench.panel.kind.settings.model_fields
        name = next(n for n, f in fields.items() if f.title == title)
        fill(self.window, self.settle, name, float(value))

    def take(self, name: str, title: str) -> None:
        steps = self.window.work.study.steps
        wanted = next(s.id for s in steps if self.window.work.study.name_of(s.id) == name)
        choose_input(self.window, self.settle, title, wanted)

    def read(self, title: str) -> None:
        panel = self.bench.panel
        told = [text for name, text in panel.facts.rows if name.lower().endswith(title.lower())]
        assert told and re.search("[0-9]", told[0]), panel.facts.rows

    def load(self, file: str, tip: str) -> None:
        self.monkeypatch.setattr(self.window.work.folder, "ask_open", lambda *_: self.folder / file)
        press(self.bench, tip)

    def press(self, name: str) -> None:
        if name == "Keep this step":
            keep(self.window, self.settle)
        else:
            press(self.window, {"Data": "What is handed on: Data"}.get(name, name))

    def open(self, view: str) -> None:
        press(self.window, f"View: {view}")
        assert len(self.window.table.model.columns) > 2

    def hand_on(self, button: str, file: str) -> None:
        self.monkeypatch.setattr(self.window.work.folder, "ask_save", lambda *_: self.folder / file)
        press(self.bench, button)
        self.settle(self.window)
        assert (self.folder / file).stat().st_size > 100


SENTENCES = [
    (r"Turn to \*\*(.+?)\*\*\.", Person.turn),
    (r"Choose \*\*(.+?)\*\*\.", Person.choose),
    (r"Click on the plan at \*\*(.+?)\*\*\.", Person.click),
    (r"Set \*\*(.+?)\*\* to \*\*(.+?)\*\*\.", Person.set),
    (r"Take \*\*(.+?)\*\* for \*\*(.+?)\*\*\.", Person.take),
    (r"Read \*\*(.+?)\*\* on the panel", Person.read),
    (r"Load \*\*(.+?)\*\* with \*\*(.+?)\*\*\.", Person.load),
    (r"Press \*\*(.+?)\*\* and name the file \*\*(.+?)\*\*\.", Person.hand_on),
    (r"Press \*\*(.+?)\*\*\.", Person.press),
    (r"Open the \*\*(.+?)\*\*", Person.open),
]


@pytest.mark.parametrize("page", PAGES, ids=lambda p: p.stem)
def test_in_the_window(demo, settle, tmp_path, monkeypatch, page):
    demo.resize(1280, 800)
    demo.work.choose("")
    settle(demo)
    rules_of(page, tmp_path)
    person = Person(demo, settle, tmp_path, monkeypatch)
    lines = re.findall(r"^[0-9]+\. (.+)$", part(page, "In the window"), re.MULTILINE)
    assert len(lines) >= 6
    for line in lines:
        done = next((act, m) for text, act in SENTENCES if (m := re.match(text, line)))
        done[0](person, *done[1].groups())
        settle(demo)


@pytest.mark.parametrize("page", PAGES, ids=lambda p: p.stem)
def test_on_the_command_line(tmp_path, monkeypatch, capsys, page):
    for file in DATA.glob("harrow_*"):
        shutil.copy(file, tmp_path)
    rules_of(page, tmp_path)
    monkeypatch.chdir(tmp_path)
    lines = re.search("```sh\n(.*?)```", part(page, "On the command line"), re.DOTALL)[1].splitlines()
    assert len(lines) >= 2
    for line in lines:
        program, *words = shlex.split(line)
        assert program == "moss-step" and main([*words, "--quiet"]) == 0, f"{line}: {capsys.readouterr().err}"
        outs = [w.rpartition("=")[2] for k, w in enumerate(words) if words[k - 1] == "-o"]
        assert outs and all((tmp_path / out).stat().st_size > 0 for out in outs)


def test_the_rules_page_makes_the_same_classes_from_the_table_it_wrote(tmp_path, monkeypatch):
    from moss_step.formats.raster import read_class_map

    page = next(p for p in PAGES if p.stem == "rules")
    shutil.copy(DATA / "harrow_ground.tif", tmp_path)
    rules_of(page, tmp_path)
    monkeypatch.chdir(tmp_path)
    for line in re.search("```sh\n(.*?)```", part(page, "On the command line"), re.DOTALL)[1].splitlines():
        assert main([*shlex.split(line)[1:], "--quiet"]) == 0
    first, again = read_class_map(tmp_path / "classes.tif"), read_class_map(tmp_path / "again.tif")
    assert (first.codes == again.codes).all() and [c.name for c in first.classes] == [
        c.name for c in again.classes
    ]


def test_a_study_written_by_hand_runs(tmp_path, monkeypatch, capsys):
    """The one that docs/study.md shows."""
    text = (PAGES[0].parents[1] / "study.md").read_text()
    (tmp_path / "hand.moss").write_text(re.search("```json\n(.*?)```", text, re.DOTALL)[1])
    shutil.copy(DATA / "harrow_ground.tif", tmp_path / "ground.tif")
    monkeypatch.chdir(tmp_path)
    assert main(["check", "hand.moss"]) == 0, capsys.readouterr().err
    assert main(["run", "hand.moss", "-o", "results", "--quiet"]) == 0
    assert any((tmp_path / "results").iterdir())
