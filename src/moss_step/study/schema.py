"""The form of a study file as a JSON schema, made from the declarations: for editors, and for those who write
studies by hand or by a program.
"""

from __future__ import annotations

from typing import Any

from moss_step.steps.catalogue import catalogue
from moss_step.steps.declare import StepKind, in_text
from moss_step.study.graph import Study
from moss_step.study.saving import MARK, MOST_PINS, MOST_STEPS, VERSION, WITHOUT_PAGES

DRAFT = "https://json-schema.org/draft/2020-12/schema"


def schema() -> dict[str, Any]:
    """The schema of a study, in the draft of 2020-12."""
    whole = Study.model_json_schema(ref_template="#/$defs/{model}")
    parts = whole.pop("$defs", {})
    step = parts.pop("Step")
    steps = {
        "type": "array",
        "maxItems": MOST_STEPS,
        "items": {"oneOf": [{"$ref": f"#/$defs/step_{kind}"} for kind in catalogue()]},
    }
    properties = {
        MARK: {"enum": [WITHOUT_PAGES, VERSION], "description": "Version of the form."},
        **whole["properties"],
    }
    properties["steps"] = {**steps, "description": "Steps, each after those that it works from or before."}
    properties["pins"] = {**properties["pins"], "maxItems": MOST_PINS}
    return {
        "$schema": DRAFT,
        "title": "A study of Moss Step",
        "description": whole.get("description", ""),
        "type": "object",
        "properties": properties,
        "required": [MARK, "steps"],
        "additionalProperties": False,
        "$defs": {**parts, **_shared(), **{f"step_{n}": _of_step(k, step) for n, k in catalogue().items()}},
    }


def _shared() -> dict[str, Any]:
    """Forms that settings of several steps are made of; names of ranges stand there as in files of rules, or
    as the window writes them.
    """
    result: dict[str, Any] = {}
    for kind in catalogue().values():
        for name, form in kind.settings.model_json_schema(by_alias=True).get("$defs", {}).items():
            other = kind.settings.model_json_schema(by_alias=False)["$defs"][name]
            result[name] = form if form == other else {"anyOf": [form, other]}
    return result


def _of_step(kind: StepKind, step: dict[str, Any]) -> dict[str, Any]:
    """One kind of step: its inputs, and its settings with their limits and what they mean."""
    settings = kind.settings.model_json_schema(by_alias=True)
    listed = kind.settings.listed()
    own = {n: s for n, s in settings.get("properties", {}).items() if n in listed}
    needed = [n for n, f in listed.items() if f.is_required()]
    inputs: dict[str, Any] = {
        "type": "object",
        "properties": {i.name: {"type": "string", "description": i.help} for i in kind.inputs},
        "required": [i.name for i in kind.inputs if not i.optional],
        "additionalProperties": {"type": "string"} if kind.further is not None else False,
    }
    held: dict[str, Any] = {
        "type": "object",
        "properties": {n: _plain(s) for n, s in own.items()},
        "required": needed,
        **({} if kind.retired else {"additionalProperties": False}),
    }
    return {
        "type": "object",
        "description": f"{kind.question} {kind.help}",
        "properties": {
            **step["properties"],
            "kind": {"const": kind.kind},
            "inputs": inputs,
            "settings": held,
        },
        "required": [
            *("id", "kind"), *(["inputs"] if inputs["required"] else []), *(["settings"] if needed else []),
        ],
        "additionalProperties": False,
    }  # fmt: skip


def _plain(setting: dict[str, Any]) -> dict[str, Any]:
    """A setting without what only the window asks of it; texts stand for all that the command line takes."""
    about = ("unit", "control", "when", "with_input", "without_input", "more")
    kept = {n: v for n, v in setting.items() if n not in about}
    kept["description"] = in_text(kept.get("description", ""))
    kinds = {"description", "title", "default"}
    form = {n: v for n, v in kept.items() if n not in kinds}
    if not form or form.get("type") == "string" or "enum" in form or "const" in form:
        return kept
    said = {n: v for n, v in kept.items() if n in kinds}
    return {**said, "anyOf": [form, {"type": "string"}]}
