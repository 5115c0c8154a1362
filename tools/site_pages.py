"""The pages that are made from the declarations: one for each step, the dictionary of columns, and Python."""

from __future__ import annotations

import inspect
import shlex
import types
from collections.abc import Callable, Sequence
from typing import Any

from moss_step.door import functions
from moss_step.kinds.registry import kind_of
from moss_step.line.pages import _range_text, _results
from moss_step.model.fields import FIELDS, meaning
from moss_step.model.outcome import Outcome
from moss_step.steps.catalogue import catalogue
from moss_step.steps.declare import StepKind
from moss_step.steps.example import example_of

Described = dict[str, Any]


def step_page(step: Described, outcomes: dict[str, Outcome], pictured: bool) -> str:
    """The page of a step: what it asks, takes and gives, how it is worked out, and an example."""
    kind = catalogue()[step["kind"]]
    parts = [
        "---\norphan: true\n---",  # the first page leads here
        f"# {step['title']}",
        f"*{step['question']}*",
        f"{step['help']} In the window: the {step['bench'].capitalize()} bench.",
    ]
    if step["formula"]:
        parts += ["## Formula", "```text\n" + step["formula"].replace("; ", "\n") + "\n```"]
    if pictured:
        parts.append(f"![{step['title']} of the demo](../pictures/step-{step['kind']}.png)")
    parts += [
        "## Example",
        f"```\nmoss-step {step['example']}\n```",
        f"```python\n{python_example(kind)}\n```",
    ]
    parts += _table(
        "## Inputs", ("name", "kind", "what"), [_input(i) for i in step["inputs"]] + _further(step)
    )
    parts += _table(
        "## Settings", ("name", "default", "unit and range", "what"), [_setting(s) for s in step["settings"]]
    )
    parts += _table("## Results", ("written as", "what"), [(f"`{a}`", b) for a, b in _results(step)])
    findings = [(f"`{f['name']}`", f["title"], _unit(f["unit"])) for f in step["findings"]]
    parts += _table("## Findings", ("name", "what", "unit"), findings)
    for name, outcome in outcomes.items():
        parts += columns_of(f"## Columns{f' of {name}' if name else ''}", outcome)
    remarks = list(dict.fromkeys(w for o in outcomes.values() for w in o.warnings))
    if remarks:
        parts += ["## What it remarks in the example", "\n".join(f"- {w}" for w in remarks)]
    science = science_of(kind)
    if science:
        parts += [
            "## How it is worked out",
            *(f"```{{eval-rst}}\n.. autofunction:: {name}\n   :no-index:\n```" for name in science),
        ]
    if kind.plan is not None:
        parts += [
            "## How it is worked out",
            "It is kept as ordinary linked steps, each of which can be changed alone.",
        ]
    parts.append("What holds for every step at edges, at no-data and for units: [grounds](../grounds.md).")
    return "\n\n".join(parts) + "\n"


def python_example(kind: StepKind) -> str:
    """The example of the help as a call from Python."""
    words = shlex.split(example_of(kind))
    given, out, rest = [], "", iter(words[2:])
    for word in rest:
        if word == "-o":
            target = next(rest)
            out = out or (target if "=" not in target else "")
        else:
            name, _, value = word.partition("=")
            given.append(f'{name}="{value}"')
    return f'import moss_step\n\nmoss_step.{kind.kind}({", ".join(given)}).save("{out}")'


def columns_of(head: str, outcome: Outcome) -> list[str]:
    """A table of the columns of a result; empty for what has none."""
    columns = kind_of(outcome.value).columns
    if columns is None:
        return []
    held, symbols = columns(outcome)
    rows = [(f"`{n}`", symbols.get(n, ""), _type(v.dtype.kind), meaning(n)) for n, v in held.items()]
    return _table(head, ("column", "unit", "type", "what"), rows)


def fields_page(by_column: dict[str, list[str]]) -> str:
    """The dictionary of every column that steps make, with the steps that do."""
    head = (
        "# Every column\n\nColumns that steps make of themselves. A table that is written as CSV has them "
        "beside it, as `table.csv-metadata.json` (CSV on the Web, W3C 2015). A column of a class has the "
        "name of the class, then `_m2`, `_share` or `_mean`."
    )
    rows = [
        (f"`{n}`", text, ", ".join(f"[{k}](steps/{k}.md)" for k in sorted(set(by_column.get(n, ())))))
        for n, text in FIELDS.items()
    ]
    return "\n\n".join([head, *_table("## Columns", ("column", "what", "steps"), rows)]) + "\n"


def python_page() -> str:
    """Every step as a function, with its signature."""
    lines = [
        "# Steps as functions",
        "`import moss_step` gives each step as a function; [Python](python.md) says what they take and give.",
    ]
    for name, function in sorted(functions().items()):
        lines.append(f"- [`{name}`](steps/{name}.md)`{inspect.signature(function)}`")
    return "\n\n".join(lines[:2]) + "\n\n" + "\n".join(lines[2:]) + "\n"


def science_of(kind: StepKind) -> list[str]:
    """Full names of the public functions of the science that a step's run calls, in the order of its text."""
    result: dict[str, None] = {}
    todo, seen = [_plain(kind.run)], set()
    while todo:
        function = todo.pop(0)
        if function is None or function in seen:
            continue
        seen.add(function)
        for one in _named_in(function):
            home = getattr(one, "__module__", "") or ""
            if home.startswith("moss_step.science") and ".kernels" not in home and _documented(one):
                result[f"{home}.{one.__name__}"] = None
            elif home.startswith("moss_step.steps") and home != "moss_step.steps.results":
                todo.append(one)
    return list(result)


def _documented(one: types.FunctionType) -> bool:
    return not one.__name__.startswith("_") and "Parameters" in (one.__doc__ or "")


def _plain(function: Callable[..., Any]) -> types.FunctionType | None:
    inner = inspect.unwrap(getattr(function, "func", function))
    return inner if isinstance(inner, types.FunctionType) else None


def _named_in(function: types.FunctionType) -> list[types.FunctionType]:
    """Functions that a function's code names, those of modules that it names among them."""
    names = [n for code in _codes(function.__code__) for n in code.co_names]
    held = [function.__globals__.get(n) for n in names]
    inside = [
        getattr(m, n, None)
        for m in held
        if isinstance(m, types.ModuleType) and m.__name__.startswith("moss_step")
        for n in names
    ]
    return [f for f in (*held, *inside) if isinstance(f, types.FunctionType)]


def _codes(code: types.CodeType) -> list[types.CodeType]:
    return [code, *(c for k in code.co_consts if isinstance(k, types.CodeType) for c in _codes(k))]


def _table(head: str, titles: tuple[str, ...], rows: Sequence[tuple[str, ...]]) -> list[str]:
    if not rows:
        return []
    lines = [f"| {' | '.join(titles)} |", f"| {' | '.join('---' for _ in titles)} |"]
    lines += ["| " + " | ".join(cell.replace("|", "\\|") for cell in row) + " |" for row in rows]
    return [head, "\n".join(lines)]


def _input(given: Described) -> tuple[str, ...]:
    return (
        f"`{given['name']}`",
        given["accepts"],
        f"{given['help']}{' Can be left out.' if given['optional'] else ''}",
    )


def _further(step: Described) -> list[tuple[str, ...]]:
    more = step["further_inputs"]
    return [("any name", more["accepts"], f"{more['help']} As many as wanted.")] if more else []


def _setting(s: Described) -> tuple[str, ...]:
    default = "must be given" if s["required"] else "" if s["default"] is None else f"`{s['default']}`"
    return (
        f"`{s['name']}`",
        default,
        f"{s['unit']} {_range_text(s['range'])}".strip().replace("<", "&lt;"),
        f"{s['title']}. {s['help']}",
    )


def _unit(key: str) -> str:
    return "" if key in ("none", "unknown") else key.replace("_", " ")


def _type(kind: str) -> str:
    return {"b": "yes or no", "i": "whole number", "u": "whole number", "f": "number"}.get(kind, "text")
