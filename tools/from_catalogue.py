"""Write what is made from the catalogue: the types of the functions that ``import moss_step`` gives, the page
of all steps, the form of a study file, and the stored catalogue that the command line answers from.

``python tools/from_catalogue.py``
"""

from __future__ import annotations

import contextlib
import inspect
import io
import json
import os
import shlex
import tempfile
from pathlib import Path
from typing import Any

from moss_step.cli import main
from moss_step.demo.samples import write_samples
from moss_step.door import functions
from moss_step.kinds.registry import kind_named
from moss_step.steps.catalogue import catalogue, describe
from moss_step.steps.declare import StepKind
from moss_step.study.schema import schema

ROOT = Path(__file__).parent.parent
TYPES, PAGE = ROOT / "src/moss_step/__init__.pyi", ROOT / "docs/steps.md"
STORED = ROOT / "src/moss_step/line/catalogue.json"
SCHEMA = ROOT / "docs/study.schema.json"
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


def findings_of(kinds: list[str]) -> dict[str, list[dict[str, str]]]:
    """What the example of each step finds: names, titles and units. It takes a while."""
    result = {}
    with tempfile.TemporaryDirectory() as folder, contextlib.chdir(folder):
        write_samples(Path(folder))
        for kind in kinds:
            said = io.StringIO()
            with contextlib.redirect_stdout(said):
                code = main([*shlex.split(describe(catalogue()[kind])["example"]), "--json", "--overwrite"])
            if code:
                raise SystemExit(f"{kind}: its example does not run")
            found = json.loads(said.getvalue())["findings"]
            result[kind] = list(
                {f["name"]: {k: f[k] for k in ("name", "title", "unit")} for f in found}.values()
            )
    return result


def endings(step: StepKind) -> dict[str, dict[str, object]]:
    """What each result is called, can be written as, and is on standard output, by the result's name."""
    kinds = {n: kind_named(r.gives) for n, r in step.results.items()}
    return {
        "endings": {n: list(k.written_as) for n, k in kinds.items()},
        "nouns": {n: k.noun for n, k in kinds.items()},
        "streamed": {n: k.streamed for n, k in kinds.items()},
    }


def stored(found: dict[str, list[dict[str, str]]]) -> str:
    """The stored catalogue, with what each step finds."""
    steps = [{**describe(s), **endings(s), "findings": found.get(s.kind, [])} for s in catalogue().values()]
    return json.dumps(steps, indent=1, ensure_ascii=False) + "\n"


if __name__ == "__main__":
    os.environ["XDG_STATE_HOME"] = os.environ["XDG_CACHE_HOME"] = tempfile.mkdtemp()
    TYPES.write_text(text())
    PAGE.write_text(page())
    SCHEMA.write_text(json.dumps(schema(), indent=1) + "\n")
    STORED.write_text(stored({}))  # the examples are run by it
    STORED.write_text(stored(findings_of(list(catalogue()))))
