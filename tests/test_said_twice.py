"""Errors read in the window's words there, and in the words that are typed on the command line."""

import ast
import re
from pathlib import Path

import pytest

import moss_step
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.steps.catalogue import catalogue, step_kind

_SOURCE = Path(moss_step.__file__).parent
_TYPED = re.compile(r"\b[a-z]+_[a-z_]+\b|\b[a-z]+=")
"""Names of settings and pairs as they are typed."""


def _texts(path):
    """Every text that an error gives the window: what is wrong, and what to do there."""
    for node in ast.walk(ast.parse(path.read_text())):
        call = node.exc if isinstance(node, ast.Raise) and isinstance(node.exc, ast.Call) else None
        if getattr(getattr(call, "func", None), "id", "") not in ("MossError", "AskedWronglyError"):
            continue
        for part in call.args[:2]:
            pieces = part.values if isinstance(part, ast.JoinedStr) else [part]
            said = "".join(
                p.value if isinstance(p, ast.Constant) else "{}"
                for p in pieces
                if not isinstance(p, ast.Starred)
            )
            yield node.lineno, re.sub(r"`[^`]*`", "", str(said))


@pytest.mark.parametrize("folder", ["model", "science", "steps", "study/engine.py"])
def test_no_error_of_a_step_speaks_in_pairs_to_the_window(folder):
    paths = [_SOURCE / folder] if folder.endswith(".py") else sorted((_SOURCE / folder).rglob("*.py"))
    wrong = [(p.name, line, said) for p in paths for line, said in _texts(p) if _TYPED.search(said)]
    assert paths and not wrong


def test_the_two_registers():
    error = AskedWronglyError("`threshold` needs a bound.", "Give `at_least` or `below`.")
    kind = step_kind("threshold")
    assert str(error) == "threshold needs a bound. Give at_least or below."
    assert error.on_screen(kind.words_of) == "Threshold needs a bound. Give at least or below."
    other = MossError("`pond` needs a bund.", "Draw it.", "Give line=x1,y1,x2,y2.")
    assert str(other) == "pond needs a bund. Give line=x1,y1,x2,y2."
    assert other.on_screen(step_kind("pond").words_of).endswith("needs a bund. Draw it.")


@pytest.mark.parametrize("name", sorted(catalogue()))
def test_what_is_missing_is_named_by_its_title(name):
    kind = step_kind(name)
    for setting, field in kind.settings.listed().items():
        words = kind.words_of(setting)
        assert "_" not in words and words == field.title.lower()
    for spec in kind.inputs:
        assert kind.words_of(spec.name) == spec.title.lower()
    assert kind.words_of(name) == kind.title
