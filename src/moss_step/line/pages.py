"""Pages that the stored catalogue answers: the help of a step, lists of steps, the manual, completions."""

from __future__ import annotations

import textwrap
from collections.abc import Iterable
from typing import Any

from moss_step import __version__
from moss_step.line.stored import Described, described, steps
from moss_step.model.errors import AskedWronglyError
from moss_step.model.nearest import meant

_WIDTH = 96
SHELLS = ("bash", "zsh", "fish")


def page(kind: str) -> str:
    """The help of a step: question, inputs, settings, results, findings, and an example.

    Raises AskedWronglyError for a step that there is none of.
    """
    step = described(kind)
    parts = [
        f"{kind}: {step['question']}",
        _filled(step["help"], 2),
        *([_filled(part, 4) for part in step["formula"].split("; ")] if step["formula"] else []),
        "",
        textwrap.fill(
            f"moss-step do {kind} {_call(step)} -o OUT",
            _WIDTH,
            initial_indent="  ",
            subsequent_indent=" " * 8,
            break_on_hyphens=False,
        ),
        *_part("Inputs", [(f"{i['name']}=PATH", _input_text(i)) for i in step["inputs"]] + _further(step)),
        *_part("Settings", [(_head(s), _setting_text(s)) for s in step["settings"]]),
        *_part("Results", _results(step)),
        *_part("Findings", [(f["name"], _finding_text(f)) for f in step["findings"]]),
        "",
        "Example",
        f"  moss-step {step['example']}",
    ]
    return "\n".join(parts)


def listing(word: str = "", bench: str = "") -> str:
    """Steps that a word finds, on a bench or on all: what each is for, and how it is called.

    Raises AskedWronglyError when there are none.
    """
    benches = list(dict.fromkeys(s["bench"] for s in steps().values()))
    if bench and bench not in benches:
        raise AskedWronglyError(f"There is no bench '{bench}'.", f"Benches: {', '.join(benches)}.")
    matching = [s for s in steps().values() if bench in ("", s["bench"]) and _holds(s, word)]
    if not matching:
        raise AskedWronglyError(f"No step is found by '{word}'.", meant(word, steps()) or "Try another word.")
    lines = []
    for name in benches:
        own = [s for s in matching if s["bench"] == name]
        lines += [f"{name}:", *(line for s in own for line in _short(s)), ""] if own else []
    return "\n".join(lines).rstrip()


def _holds(step: Described, word: str) -> bool:
    own = [step["kind"], step["title"], step["question"], *step["words"]]
    return all(any(w in text.lower() for text in own) for w in word.lower().split())


def _short(step: Described) -> list[str]:
    called = textwrap.wrap(_call(step), _WIDTH - 21, break_on_hyphens=False)
    return [f"  {step['kind']:<18} {step['question']}", *(f"  {'':<18} {line}" for line in called)]


def _call(step: Described) -> str:
    """How a step is called: inputs with PATH, settings with their defaults."""
    words = [f"{i['name']}=PATH" if not i["optional"] else f"[{i['name']}=PATH]" for i in step["inputs"]]
    if step["further_inputs"]:
        words.append("NAME=PATH ...")
    for s in step["settings"]:
        words.append(f"{s['name']}=..." if s["required"] else f"[{_head(s)}]")
    return " ".join(words)


def _head(setting: dict[str, Any]) -> str:
    default = setting["default"]
    if setting["required"] or default is None:
        return f"{setting['name']}="
    return f"{setting['name']}={str(default).lower() if isinstance(default, bool) else _plain(default)}"


def _plain(value: object) -> str:
    if isinstance(value, float):
        return f"{value:g}"
    return ",".join(map(_plain, value)) if isinstance(value, list) else str(value)


def _input_text(given: dict[str, Any]) -> str:
    return f"{given['accepts']}{', can be left out' if given['optional'] else ''}. {given['help']}"


def _further(step: Described) -> list[tuple[str, str]]:
    more = step["further_inputs"]
    return [("NAME=PATH ...", f"{more['accepts']}, as many as wanted. {more['help']}")] if more else []


def _setting_text(setting: dict[str, Any]) -> str:
    unit = f" {setting['unit']}." if setting["unit"] else ""
    needed = " Must be given." if setting["required"] else ""
    return f"{setting['title']}.{unit}{_range_text(setting['range'])} {setting['help']}{needed}"


def _range_text(allowed: Any) -> str:
    if isinstance(allowed, list):
        return f" {' | '.join(map(str, allowed))}."
    words = {"at_least": "from", "above": "above", "at_most": "to", "below": "below"}
    said = [f"{words[n]} {v:g}" for n, v in (allowed or {}).items()]
    said.sort(key=lambda text: text.startswith(("to", "below")))
    return f" {' '.join(said).capitalize()}." if said else ""


def _results(step: Described) -> list[tuple[str, str]]:
    rows = [("-o OUT", f"{step['gives']}: {' '.join(step['endings'][''])}")]
    return rows + [
        (f"-o {r['name']}=OUT", f"{r['gives']}, {r['title'].lower()}: {' '.join(step['endings'][r['name']])}")
        for r in step["results"]
    ]


def _finding_text(finding: dict[str, str]) -> str:
    unit = "" if finding["unit"] in ("none", "count", "unknown") else f" ({finding['unit']})"
    return f"{finding['title']}{unit}"


def _part(title: str, rows: list[tuple[str, str]]) -> list[str]:
    if not rows:
        return []
    wide = min(max(len(head) for head, _ in rows) + 2, 30)
    lines = ["", title]
    for head, text in rows:
        body = textwrap.wrap(text, _WIDTH - wide - 2) or [""]
        first = f"  {head:<{wide}}{body[0]}" if len(head) < wide else f"  {head}\n  {'':<{wide}}{body[0]}"
        lines += [first, *(f"  {'':<{wide}}{line}" for line in body[1:])]
    return lines


def _filled(text: str, indent: int) -> str:
    return textwrap.fill(text, _WIDTH, initial_indent=" " * indent, subsequent_indent=" " * indent)


# --- manual and completions


def manual(commands: Iterable[tuple[str, str]]) -> str:
    """The manual as a page for ``man``: commands with what they do, then every step."""
    lines = [
        f'.TH MOSS-STEP 1 "" "Moss Step {__version__}" "Terrain analysis"',
        ".SH NAME",
        "moss-step \\- terrain analysis: a window, or one step or study without a screen",
        ".SH SYNOPSIS",
        ".B moss-step",
        "[\\fICOMMAND\\fR ...]",
        ".SH COMMANDS",
    ]
    for name, what in commands:
        lines += [".TP", f".B {name}", _roff(what)]
    lines.append(".SH STEPS")
    for kind, step in steps().items():
        lines += [".SS " + kind, _roff(f"{step['question']} {step['help']}"), ".PP", ".nf"]
        lines += [_roff(f"moss-step {step['example']}"), ".fi"]
        rows = [(f"{i['name']}=PATH", _input_text(i)) for i in step["inputs"]] + _further(step)
        rows += [(_head(s), _setting_text(s)) for s in step["settings"]]
        for head, text in rows:
            lines += [".TP", f".I {_roff(head)}", _roff(text)]
    return "\n".join(lines) + "\n"


def _roff(text: str) -> str:
    escaped = text.replace("\\", "\\\\").replace("-", "\\-")
    return f"\\&{escaped}" if escaped.startswith((".", "'")) else escaped


def completion(shell: str, commands: Iterable[tuple[str, str]]) -> str:
    """A script that completes commands, steps, their inputs, settings and choices.

    Raises AskedWronglyError for a shell that there is no script for.
    """
    if shell not in SHELLS:
        raise AskedWronglyError(f"There is no completion for '{shell}'.", f"Shells: {', '.join(SHELLS)}.")
    names = [name for name, _ in commands]
    words = {kind: _words(step) for kind, step in steps().items()}
    if shell == "bash":
        return _bash(names, words)
    if shell == "zsh":
        return "autoload -U +X bashcompinit && bashcompinit\n" + _bash(names, words)
    return _fish(commands, words)


def _words(step: Described) -> list[str]:
    """What can follow a step: names with their choices."""
    result = [f"{i['name']}=" for i in step["inputs"]]
    for s in step["settings"]:
        result += [f"{s['name']}={c}" for c in s["choices"]] if s["choices"] else [f"{s['name']}="]
    return result


def _bash(names: list[str], words: dict[str, list[str]]) -> str:
    cases = "\n".join(f"      {kind}) own='{' '.join(own)}' ;;" for kind, own in words.items())
    return f"""_moss_step() {{
  local line="${{COMP_LINE:0:COMP_POINT}}" own=""
  local -a said; read -ra said <<< "$line"
  local word=""; [[ "$line" == *' ' ]] || word="${{said[-1]}}"
  local at=${{#said[@]}}; [[ -n "$word" ]] && at=$((at - 1))
  if (( at <= 1 )); then own="{" ".join(names)}"
  elif (( at == 2 )) && [[ "${{said[1]}}" == do || "${{said[1]}}" == steps ]]; then own="{" ".join(words)}"
  elif [[ "${{said[1]}}" == do ]]; then
    case "${{said[2]}}" in
{cases}
    esac
    own="$own -o --help --json --overwrite --lineage --dry-run --quiet --verbose"
  fi
  local cut=""
  if [[ "$word" == *=* && "$COMP_WORDBREAKS" == *=* ]]; then cut="${{word%%=*}}="; fi
  COMPREPLY=()
  local one
  for one in $(compgen -W "$own" -- "$word"); do COMPREPLY+=("${{one#"$cut"}}"); done
  if [[ ${{#COMPREPLY[@]}} -eq 0 ]]; then COMPREPLY=($(compgen -f -- "${{word#*=}}")); fi
  [[ "${{COMPREPLY[0]:-}}" == *= ]] && compopt -o nospace 2>/dev/null
}}
complete -F _moss_step moss-step
"""


def _fish(commands: Iterable[tuple[str, str]], words: dict[str, list[str]]) -> str:
    first = "__fish_use_subcommand"
    lines = [f"complete -c moss-step -n {first} -f -a {n} -d '{_quoted(w)}'" for n, w in commands]
    for kind, own in words.items():
        said = _quoted(steps()[kind]["question"])
        begun = "__fish_seen_subcommand_from do steps"
        lines.append(f"complete -c moss-step -n '{begun}' -f -a {kind} -d '{said}'")
        lines.append(f"complete -c moss-step -n '__fish_seen_subcommand_from {kind}' -a '{' '.join(own)}'")
    return "\n".join(lines) + "\n"


def _quoted(text: str) -> str:
    return text.replace("\\", "\\\\").replace("'", "\\'")
