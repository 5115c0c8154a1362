"""All declared steps, found in the modules of this package."""

from __future__ import annotations

import importlib
import pkgutil
import re
from functools import lru_cache
from pathlib import Path
from typing import Any

from moss_step import steps
from moss_step.formats.source import members
from moss_step.model.errors import AskedWronglyError
from moss_step.model.nearest import meant
from moss_step.steps.declare import StepKind, extra, in_text
from moss_step.steps.example import example_of

BENCHES = ("gather", "points", "surface", "shape", "water", "sight", "earthwork", "classes", "sheet")
GROUPS: dict[str, tuple[str, ...]] = {
    "gather": ("Bring in", "Fit to the work"),
    "points": (
        "Bring in",
        "Classes of points",
        "From points to grids",
        "Shapes and objects",
        "Heights above ground",
    ),
    "surface": ("Between places", "Levels", "Between surfaces", "Values", "Cells"),
    "shape": ("Steepness and direction", "Form of the ground", "Place in the ground", "Heights", "Light"),
    "water": (
        "Ready for water",
        "Where it runs",
        "Streams and divides",
        "What drains where",
        "Wet and worn ground",
        "Standing water",
    ),
    "sight": ("What is seen", "Along a line", "How high", "Where to stand"),
    "earthwork": ("Volumes", "Change", "Designs"),
    "classes": ("Bounds and classes", "Several together", "Areas", "Values by area"),
}
"""Headings of the questions of each bench, in the order of the work."""
_KIND = re.compile(r'\bkind="(\w+)",')


@lru_cache(maxsize=1)
def catalogue() -> dict[str, StepKind]:
    """Every step by its kind, in the order of the benches, staples first."""
    result: list[StepKind] = []
    for module in pkgutil.iter_modules(steps.__path__):
        loaded = importlib.import_module(f"{steps.__name__}.{module.name}")
        result += [v for v in vars(loaded).values() if isinstance(v, StepKind)]
    result.sort(key=lambda s: (BENCHES.index(s.bench), s.staple))
    return {s.kind: s for s in result}


@lru_cache(maxsize=1)
def _places() -> dict[str, str]:
    """The module of this package that declares each step, as their texts say it; empty where they are no
    files.
    """
    return {
        kind: file.stem
        for folder in steps.__path__
        for file in sorted(Path(folder).glob("*.py"))
        for kind in _KIND.findall(file.read_text(encoding="utf-8"))
    }


def _declared_alone(kind: str) -> StepKind | None:
    """A step from the one module that declares it."""
    name = _places().get(kind)
    loaded = vars(importlib.import_module(f"{steps.__name__}.{name}")) if name else {}
    return next((v for v in loaded.values() if isinstance(v, StepKind) and v.kind == kind), None)


def is_step(kind: str) -> bool:
    """Whether there is a step of a kind; while nobody has asked for all of them, nothing is loaded for the
    others.
    """
    alone = _declared_alone(kind) if not catalogue.cache_info().currsize else None
    return alone is not None or kind in catalogue()


def step_kind(kind: str) -> StepKind:
    """Give the step of a kind; while nobody has asked for all of them, with nothing loaded for the others.

    Raises AskedWronglyError when there is none.
    """
    alone = _declared_alone(kind) if not catalogue.cache_info().currsize else None
    if alone is not None:
        return alone
    try:
        return catalogue()[kind]
    except KeyError:
        moved = became(kind)
        if moved is not None:
            raise AskedWronglyError(
                f"'{kind}' is a result of {moved[0]} now.", f"Run {moved[0]}, with -o {moved[1]}=FILE."
            ) from None
        raise AskedWronglyError(
            f"There is no step '{kind}'.", meant(kind, catalogue()) or f"There are {len(catalogue())} steps."
        ) from None


def opening(path: Path) -> list[tuple[str, str]]:
    """The steps that open a file: kind and source of each.

    Raises MossError when the file cannot be read.
    """
    steps = catalogue().values()
    named = members(path) if path.is_dir() else [path]
    if not named:
        raise AskedWronglyError(f"{path} holds no clouds (LAS, LAZ) and no grids.", "Choose a file.")
    ending = named[0].suffix.lower()
    step = next((s for s in steps if ending in s.opens), None) or next(s for s in steps if "*" in s.opens)
    return [(step.kind, source) for source in step.sources(path)]


def keeper(what: str) -> StepKind:
    """The step that keeps what a view shows."""
    return next(s for s in catalogue().values() if s.keeps == what)


def became(kind: str) -> tuple[str, str] | None:
    """The kind of step and the name of its result that a step of older versions became; None for what is a
    step today.
    """
    return None if is_step(kind) else _became().get(kind)


@lru_cache(maxsize=1)
def _became() -> dict[str, tuple[str, str]]:
    return {
        r.was: (kind, r.name)
        for kind, step in catalogue().items()
        for r in step.beside
        if r.was and "=" not in r.was
    }


def describe(step: StepKind) -> dict[str, Any]:
    """Give a step as plain data: what ``moss-step steps --json`` prints."""
    schema = step.settings.model_json_schema().get("properties", {})
    return {
        "kind": step.kind,
        "bench": step.bench,
        "title": step.title,
        "question": step.question,
        "help": in_text(step.help),
        "formula": step.formula,
        "example": example_of(step),
        "gives": step.gives,
        "gives_by_settings": step.gives_by is not None,
        "results": [
            {"name": r.name, "gives": r.gives, "title": r.title, "help": r.help, "was": r.was}
            for r in step.beside
        ],
        "words": list(step.words),
        "inputs": [
            {"name": i.name, "accepts": i.accepts, "title": i.title, "help": i.help, "optional": i.optional}
            for i in step.inputs
        ],
        "further_inputs": None
        if step.further is None
        else {"accepts": step.further.accepts, "help": step.further.help},
        "settings": [
            {
                "name": name,
                "title": field.title,
                "help": in_text(field.description or ""),
                "unit": extra(field, "unit"),
                "control": extra(field, "control"),
                "required": field.is_required(),
                "default": schema.get(name, {}).get("default"),
                "range": _range(schema.get(name, {})),
                "choices": _choices(schema.get(name, {})),
            }
            for name, field in step.settings.listed().items()
        ],
    }


def _choices(schema: dict[str, Any]) -> list[Any] | None:
    """All values that a setting may have, where there are some few."""
    options = [o for o in schema.get("anyOf", [schema]) if o.get("type") != "null"]
    return list(options[0]["enum"]) if len(options) == 1 and "enum" in options[0] else None


def _range(schema: dict[str, Any]) -> Any:
    """The allowed choices as a list, or the limits as an object; null when anything of the type will do."""
    options = [schema, *schema.get("anyOf", [])]
    for option in options:
        if "enum" in option:
            return option["enum"]
        limits = {
            "minimum": "at_least",
            "maximum": "at_most",
            "exclusiveMinimum": "above",
            "exclusiveMaximum": "below",
        }
        result = {word: option[key] for key, word in limits.items() if key in option}
        if result:
            return result
    return None
