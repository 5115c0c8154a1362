"""The stored catalogue: help and refusals are answered from it, without the libraries that a run needs.

It is written by ``tools/from_catalogue.py`` from the declarations, and a test holds it against them.
"""

from __future__ import annotations

import json
from collections.abc import Mapping
from functools import lru_cache
from pathlib import Path
from typing import Any

from moss_step.model.errors import AskedWronglyError
from moss_step.model.nearest import meant

Described = dict[str, Any]


@lru_cache(maxsize=1)
def steps() -> dict[str, Described]:
    """All steps by kind."""
    text = Path(__file__).with_name("catalogue.json").read_text(encoding="utf-8")
    return {s["kind"]: s for s in json.loads(text)}


def described(kind: str) -> Described:
    """One step.

    Raises AskedWronglyError that names the nearest.
    """
    try:
        return steps()[kind]
    except KeyError:
        now = next(
            ((k, r["name"]) for k, s in steps().items() for r in s["results"] if r["was"] == kind), None
        )
        if now is not None:
            raise AskedWronglyError(
                f"'{kind}' is a result of {now[0]} now.", f"Run {now[0]}, with -o {now[1]}=FILE."
            ) from None
        finds = "'moss-step steps WORD' finds steps."
        raise AskedWronglyError(
            f"There is no step '{kind}'.", f"{meant(kind, steps())} {finds}".strip()
        ) from None


def check_words(step: Described, given: Mapping[str, str]) -> None:
    """Raise AskedWronglyError for names and choices that the step does not have, and for what is missing."""
    inputs = {i["name"]: i for i in step["inputs"]}
    settings = {s["name"]: s for s in step["settings"]}
    for name, value in given.items():
        known = [*inputs, *settings]
        if name not in known and not (step["further_inputs"] and name.isidentifier()):
            raise AskedWronglyError(
                f"{step['kind']} has no setting '{name}'.",
                meant(name, known) or f"'moss-step do {step['kind']} --help' lists what it has.",
            )
        choices = [str(c) for c in settings.get(name, {}).get("choices") or []]
        if choices and value not in choices and not _is_number(value):
            listed = f"It should be {' or '.join(choices)}."
            raise AskedWronglyError(
                f"{name}: '{value}' is not possible.", f"{meant(value, choices)} {listed}".strip()
            )
    wanted = [i for i in inputs.values() if not i["optional"]]
    wanted += [s for s in settings.values() if s["required"]]
    for one in wanted:
        if one["name"] not in given:
            raise AskedWronglyError(f"{step['kind']} needs {one['name']}.", f"Give {one['name']}=...")


def _is_number(text: str) -> bool:
    try:
        float(text)
    except ValueError:
        return False
    return True
