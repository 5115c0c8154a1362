"""The documentation speaks of what there is: steps, their settings, files and keys."""

import itertools
import re
import subprocess
import sys
from pathlib import Path

import pytest

from moss_step.line.words import COMMANDS, do_parser
from moss_step.steps.catalogue import catalogue
from moss_step.study.saving import load_study

ROOT = Path(__file__).parent.parent
DOCS = Path(__file__).parent.parent / "docs"
README = DOCS.parent / "README.md"
PAGES = [README, *sorted(DOCS.glob("*.md"))]
KINDS = catalogue()


def test_the_page_of_all_steps_is_made_from_their_declarations():
    code = "import sys; sys.path.insert(0, 'tools'); import from_catalogue; sys.stdout.write(from_catalogue.page())"
    made = subprocess.run(
        [sys.executable, "-c", code], cwd=DOCS.parent, capture_output=True, text=True, check=True, timeout=60
    )
    assert made.stdout == (DOCS / "steps.md").read_text(), "run tools/from_catalogue.py"
    assert all(f"| `{kind}` |" in made.stdout for kind in KINDS)


def rows() -> list[str]:
    return [
        line
        for line in (DOCS / "command-line.md").read_text().splitlines()
        if line.startswith("| ") and "`do " in line
    ]


def test_examples_are_of_steps_that_there_are():
    named = {word for line in rows() for word in re.split(r"[,\s]+", line.split("|")[1].strip())}
    assert len(named) > 60 and named <= set(KINDS)


@pytest.mark.parametrize("example", sorted({e for line in rows() for e in re.findall(r"`do ([^`]+)`", line)}))
def test_an_example_names_inputs_and_settings_that_are_declared(example):
    kind, *words = re.findall(r'\w+="[^"]*"|\S+', example)
    outs = [after for before, after in itertools.pairwise(words) if before == "-o"]
    given = [w for w in words if "=" in w and w not in outs]
    assert kind in KINDS and all(KINDS[kind].result(o.split("=")[0]) for o in outs if "=" in o)
    for name in (w.split("=", 1)[0] for w in given):
        step = KINDS[kind]
        aliases = {"observers": "at", "line": "ends"}
        known = (
            step.input(name) is not None
            or name in step.settings.model_fields
            or aliases.get(name) in step.settings.model_fields
        )
        assert known, f"{kind} has no {name}"


@pytest.mark.parametrize("page", PAGES, ids=lambda p: p.name)
def test_pages_link_to_what_is_there(page):
    for target in re.findall(r"\]\(([^)#]+)\)", page.read_text()):
        assert not target.startswith(("http", "/")), f"{target}: nothing else is reachable"
        assert (page.parent / target).exists(), target


@pytest.mark.parametrize("page", PAGES, ids=lambda p: p.name)
def test_pages_hold_no_path_of_a_machine(page):
    assert not re.search(r"(?<![\w.])/(home|root|tmp|work|usr)/", page.read_text())


def test_each_picture_of_the_documentation_is_shown_on_a_page():
    shown = {Path(t).name for page in PAGES for t in re.findall(r"\]\(([^)]+\.png)\)", page.read_text())}
    there = {p.name for p in (DOCS / "screenshots").glob("*.png")}
    assert there <= shown and len(there) < 20, sorted(there - shown)


def test_each_step_says_what_it_is_in_words_of_its_own():
    for kind in KINDS.values():
        assert kind.title[0].isupper() and kind.question.endswith("?") and kind.help.endswith("."), kind.kind
        assert len(kind.words) >= 2 and len({w.lower() for w in kind.words}) == len(kind.words), kind.kind
        for name, field in kind.settings.model_fields.items():
            assert field.title and field.description, f"{kind.kind} {name}"
        for spec in kind.inputs:
            assert spec.title and spec.help.endswith("."), f"{kind.kind} {spec.name}"
    questions = [k.question for k in KINDS.values()]
    assert len(set(questions)) == len(questions), "two steps ask the same"


def test_each_step_that_works_values_out_says_by_which_formula():
    without = {name for name, kind in catalogue().items() if not kind.formula and kind.plan is None}
    assert without <= {
        "draw",
        "open_grid",
        "open_shapes",
        "open_cloud",
        "open_table",
        "open_recording",
        "crop",
    }
    for kind in catalogue().values():
        assert not kind.formula or re.search("[=→<>−−×]|cell by cell|where|connected", kind.formula), (
            kind.kind
        )
        assert not re.search(r"\s\s|;\S|; $", kind.formula), kind.kind


def test_no_generic_part_of_the_window_names_a_step():
    """Steps are found by what they declare; benches, walks and the pictures of the docs name their own."""
    package, own = ROOT / "src/moss_step", {"benches", "walks.py", "warm.py"}
    files = [p for part in ("desk", "scene", "study") for p in (package / part).rglob("*.py")]
    generic = [p for p in files if not own & set(p.parts)]
    asked = re.compile(r'(?:add_step|begin_step|step_kind)\(\s*"(\w+)"|\bkind (?:==|!=|in) \(?"(\w+)"')
    named = [
        f"{p.name}: {kind}" for p in generic for pair in asked.findall(p.read_text()) for kind in pair if kind
    ]
    assert len(generic) > 60 and not {n.split(": ")[1] for n in named} & set(KINDS), named


def test_the_study_of_the_docs_can_be_opened(tmp_path):
    text = (DOCS / "command-line.md").read_text()
    (found,) = re.findall(r'```\n(\{"steps".*?)\n```', text, re.DOTALL)
    file = tmp_path / "written.moss"
    file.write_text(found)
    assert [s.kind for s in load_study(file).steps] == ["open_grid", "slope"]


def test_the_docs_name_every_command_and_option_of_the_command_line():
    text = (DOCS / "command-line.md").read_text()
    for name, _ in COMMANDS:
        assert f"moss-step {name}" in text, name
    options = [
        o for a in do_parser()._actions for o in a.option_strings if o.startswith("--") and o != "--out"
    ]
    assert [o for o in options if f"`{o}`" not in text and o not in text] == []
