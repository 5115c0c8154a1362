"""Write what is made from the catalogue: the types of the functions that ``import moss_step`` gives, and the
page of all steps.

``python tools/from_catalogue.py``
"""

from __future__ import annotations

import inspect
from pathlib import Path
from typing import Any

from moss_step.door import functions
from moss_step.steps.catalogue import catalogue, describe

ROOT = Path(__file__).parent.parent
TYPES, PAGE = ROOT / "src/moss_step/__init__.pyi", ROOT / "docs/steps.md"
HEAD = '''"""Types of the steps as functions; written by tools/from_catalogue.py from their declarations."""

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Literal

from moss_step.door import Result as Result
from moss_step.model.errors import AskedWronglyError as AskedWronglyError
from moss_step.model.errors import MossError as MossError
from moss_step.model.outcome import Value

__version__: str
'''


def text() -> str:
    """All of the file."""
    return "\n".join(
        [HEAD, *(stub(name, inspect.signature(function)) for name, function in sorted(functions().items()))]
    )


def stub(name: str, signature: inspect.Signature) -> str:
    """A function of the file, with a line for each of its parameters."""
    lines, starred = [f"def {name}("], False
    for parameter in signature.parameters.values():
        if parameter.kind == inspect.Parameter.KEYWORD_ONLY and not starred:
            lines.append("    *,")
            starred = True
        mark = "**" if parameter.kind == inspect.Parameter.VAR_KEYWORD else ""
        default = "" if parameter.default is inspect.Parameter.empty else f" = {written(parameter.default)}"
        lines.append(f"    {mark}{parameter.name}: {quoted(parameter.annotation)}{default},")
    return "\n".join([*lines, f") -> {signature.return_annotation}: ...\n"])


def written(default: object) -> str:
    """A default as a formatter writes it."""
    return f'"{default}"' if isinstance(default, str) else repr(default)


def quoted(annotation: str) -> str:
    """A type with its texts as a formatter writes them."""
    return annotation.replace("'", '"')


def page() -> str:
    """The page of all steps, bench by bench."""
    head = (
        "# Every step\n\nMade from the declarations by `tools/from_catalogue.py`; `moss-step steps` says "
        "the same. `?` marks an input that can be\n"
        "left out, `...` any number of inputs under names of one's own. A setting stands with its default "
        "and unit; one without must be given.\n"
    )
    steps = [describe(step) for step in catalogue().values()]
    benches = list(dict.fromkeys(step["bench"] for step in steps))
    return head + "".join(bench_table(bench, [s for s in steps if s["bench"] == bench]) for bench in benches)


def bench_table(bench: str, steps: list[dict[str, Any]]) -> str:
    """The steps of one bench."""
    rows = [
        f"| `{s['kind']}` | {s['question']} {s['help']} | {inputs_of(s)} | {settings_of(s)} | {gives_of(s)} |"
        for s in steps
    ]
    return (
        f"\n## {bench.capitalize()}\n\n| step | what for | inputs | settings | gives |\n| --- | --- | --- "
        "| --- | --- |\n" + "\n".join(rows) + "\n"
    )


def gives_of(step: dict[str, Any]) -> str:
    """Kinds of the results, the main one first."""
    return ", ".join([step["gives"], *(f"`{r['name']}` {r['gives']}" for r in step["results"])])


def inputs_of(step: dict[str, Any]) -> str:
    """Inputs with what they accept."""
    found = [f"`{i['name']}`{'?' if i['optional'] else ''} {i['accepts']}" for i in step["inputs"]]
    return ", ".join(
        [*found, *([f"`...` {step['further_inputs']['accepts']}"] if step["further_inputs"] else [])]
    )


def settings_of(step: dict[str, Any]) -> str:
    """Settings with default and unit."""
    found = []
    for s in step["settings"]:
        default = "" if s["required"] or s["default"] is None else f"={s['default']}".replace("|", "\\|")
        found.append(f"`{s['name']}{default}`" + (f" {s['unit']}" if s["unit"] else ""))
    return ", ".join(found)


if __name__ == "__main__":
    TYPES.write_text(text())
    PAGE.write_text(page())
