"""A study as a script: of Python, through the functions of this program, and of shell commands. Both run
without a screen, write the same results, and print the same figures.
"""

from __future__ import annotations

import json
import keyword
import os
import re
import shlex
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from moss_step.kinds.registry import kind_named
from moss_step.steps.declare import plain
from moss_step.study.graph import Step, Study, file_name, split

ENDINGS = (".py", ".sh")


def script_of(study: Study, path: Path) -> str:
    """A study as the text of a script that will lie at a path; its ending says of which kind.

    Sources are named from where the script lies. Raises MossError for a study with settings that are not
    possible.
    """
    return as_python(study, path) if path.suffix.lower() == ".py" else as_shell(study, path)


def _settings(step: Step) -> dict[str, Any]:
    """Settings that are not usual, as plain data."""
    return plain(step.declared.checked(step.settings))


def _sources(step: Step, folder: Path) -> dict[str, str]:
    """The files that a step reads, by the names of its settings, as seen from a folder."""
    result = {}
    for name in step.declared.file_settings:
        if name in step.settings:
            result[name] = os.path.relpath(str(step.settings[name]), folder.resolve())
    return result


def _file_of(study: Study, ref: str) -> str:
    """Name of the file of a result, without its ending."""
    return f"{ref.replace('.', '_')}_{file_name(study.name_of(ref))}"


def _kept(study: Study) -> dict[str, list[str]]:
    """Results that are worked out, by their steps."""
    result: dict[str, list[str]] = {}
    for ref in study.refs(asked=False):
        result.setdefault(ref.partition(".")[0], []).append(ref)
    return result


# --- Python


def as_python(study: Study, path: Path) -> str:
    """A study as a script of Python."""
    folder, kept = path.resolve().parent, _kept(study)
    names = _names(study)
    lines = [
        f'"""{_quoted(study.name)}, as a script. Run it: python {path.name} [FOLDER OF THE RESULTS]"""',
        "",
        "import json",
        "import sys",
        "from pathlib import Path",
        "",
        "import moss_step",
        "",
        "here = Path(__file__).resolve().parent",
        'out = Path(sys.argv[1]) if len(sys.argv) > 1 else here / "results"',
        "out.mkdir(parents=True, exist_ok=True)",
        "",
        "",
        "def tell(step, result):",
        '    """Print the figures of a result as one line of JSON."""',
        '    print(json.dumps({"step": step, "findings": [f.as_json() for f in result.findings]}))',
        "",
        "",
    ]
    for step in study.in_order():
        lines += [f"# {_quoted(study.name_of(step.id))}", *_python_call(step, names, folder)]
        for ref in kept.get(step.id, []):
            result = names[step.id] if ref == step.id else f"{names[step.id]}[{split(ref)[1]!r}]"
            if step.inputs:
                ending = kind_named(study.result(ref).gives).endings[0]
                lines.append(f"{result}.save(out / {_file_of(study, ref) + ending!r})")
            lines.append(f"tell({ref!r}, {result})")
        lines.append("")
    return "\n".join(lines).rstrip() + "\n"


def _names(study: Study) -> dict[str, str]:
    """A name of Python for each step."""
    names: dict[str, str] = {}
    for step in study.in_order():
        base = re.sub(r"\W", "_", step.id)
        taken = {*names.values(), "json", "sys", "Path", "moss_step", "here", "out", "tell"}
        if not base.isidentifier() or keyword.iskeyword(base) or base in taken:
            base = f"step_{base}"
        names[step.id] = next(n for n in (base, *(f"{base}_{k}" for k in range(2, 9999))) if n not in taken)
    return names


def _python_call(step: Step, names: Mapping[str, str], folder: Path) -> list[str]:
    """The call of one step."""
    given = {}
    for name, ref in step.inputs.items():
        of, beside = split(ref)
        given[name] = f"{names[of]}[{beside!r}]" if beside else names[of]
    sources = _sources(step, folder)
    for name, value in _settings(step).items():
        given[name] = f"here / {sources[name]!r}" if name in sources else repr(value)
    if not given:
        return [f"{names[step.id]} = moss_step.{step.kind}()"]
    inner = [f"    {name}={value}," for name, value in given.items()]
    return [f"{names[step.id]} = moss_step.{step.kind}(", *inner, ")"]


# --- shell


def as_shell(study: Study, path: Path) -> str:
    """A study as shell commands: each step reads the files that others wrote."""
    folder, kept = path.resolve().parent, _kept(study)
    lines = [
        "#!/bin/sh",
        f"# {_quoted(study.name)}, as commands. Run it: sh {path.name} [FOLDER OF THE RESULTS]",
        "set -eu",
        'here=$(cd "$(dirname "$0")" && pwd)',
        'out=${1:-"$here/results"}',
        'mkdir -p "$out"',
        "",
    ]
    files: dict[str, str] = {}
    for step in study.in_order():
        refs = kept.get(step.id, [step.id])
        for ref in refs:
            files[ref] = (
                f'"$out"/{shlex.quote(_file_of(study, ref) + kind_named(study.result(ref).gives).endings[0])}'
            )
        words = [f"{name}={files[ref]}" for name, ref in step.inputs.items()]
        sources = _sources(step, folder)
        for name, value in _settings(step).items():
            told = (
                f'"$here"/{shlex.quote(sources[name])}' if name in sources else shlex.quote(_as_word(value))
            )
            words.append(f"{name}={told}")
        outs = [f"-o {files[ref]}" if ref == step.id else f"-o {split(ref)[1]}={files[ref]}" for ref in refs]
        parts = [f"moss-step do {step.kind}", *words, *outs, "--overwrite --json"]
        lines += [f"# {_quoted(study.name_of(step.id))}", " \\\n    ".join(parts), ""]
    return "\n".join(lines).rstrip() + "\n"


def _as_word(value: Any) -> str:
    """A setting as the command line takes it."""
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, list | dict):
        return json.dumps(value)
    return repr(value) if isinstance(value, float) else str(value)


def _quoted(text: str) -> str:
    """A name within a comment: it makes no line of its own, and ends no text."""
    return " ".join(text.split()).replace("\\", "/").replace('"""', "'''")
