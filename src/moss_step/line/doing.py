"""``moss-step do``: one step from files to files."""

from __future__ import annotations

import argparse
import json
import sys
from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

from moss_step.formats.whole import make_folder, write_text
from moss_step.line.bar import Bar
from moss_step.line.outs import Out, check_endings, check_streamed, make_ready, remember, stream, targets
from moss_step.line.pages import page
from moss_step.line.prepare import tell_of_compiling
from moss_step.line.stored import Described, check_words, described
from moss_step.line.words import do_parser, pairs, runs_of
from moss_step.model.errors import AskedWronglyError, MossError

if TYPE_CHECKING:
    from moss_step.model.outcome import Outcome
    from moss_step.model.progress import Progress

_RUN = 0.9
"""Share of a run in which reading and working out are done; the rest is writing."""


@dataclass(frozen=True)
class Planned:
    """One run: what is given, and where its results go."""

    given: dict[str, str]
    outs: list[Out]


def do(words: Sequence[str]) -> None:
    """Run one step, or say what would run.

    Raises AskedWronglyError for what cannot be asked so, before the work starts; MossError for what fails.
    """
    asked = do_parser().parse_intermixed_args(words)
    kinds = [w for w in asked.given if "=" not in w]
    if asked.help or not asked.given:
        print(page(kinds[0]) if kinds else do_parser().format_help().rstrip())
        return
    if not kinds:
        raise AskedWronglyError(
            "Which step is not said.", "Write for example: moss-step do slope dem=PATH -o OUT"
        )
    step = described(kinds[0])
    given = pairs([w for w in asked.given if w != kinds[0]])
    check_words(step, given)
    plans = _plans(step, given, asked)
    if asked.dry_run:
        _tell_plans(step, plans)
        return
    for plan in plans:
        make_ready(plan.outs, asked.overwrite)
    if not asked.quiet:
        tell_of_compiling()
    said: list[dict[str, Any]] = []
    with Bar(asked.quiet) as progress:
        for k, plan in enumerate(plans):
            try:
                said.append(_run(step, plan, asked, progress.part(k / len(plans), (k + 1) / len(plans))))
            except MossError as error:
                if len(plans) == 1:
                    raise
                written = [o for s in said for o in s["outputs"]]
                before = f" Written before: {', '.join(written)}." if written else ""
                raise type(error)(f"{_input_of(step, plan)}: {error.what}{before}", error.do) from error
    if asked.json:
        print(json.dumps(said[0] if len(said) == 1 else {"kind": step["kind"], "runs": said}))


def _plans(step: Described, given: dict[str, str], asked: argparse.Namespace) -> list[Planned]:
    """All runs, with each result's place checked."""
    if not asked.out and not asked.dry_run:
        raise AskedWronglyError(
            "Where the result goes is not said.", f"Add -o {step['kind']}{step['endings'][''][0]}"
        )
    result, taken = [], set[Path]()
    for one, names in runs_of(step, given):
        outs = targets(step, asked.out, names)
        check_endings(step, outs, _gives(step, one))
        paths = {o.path.resolve() for o in outs if o.path is not None}
        if paths & taken:
            raise AskedWronglyError(
                "Several runs would write one file.", "Put {name} in it: -o {name}_out.tif"
            )
        taken |= paths
        result.append(Planned(one, outs))
    streamed = [o for p in result for o in p.outs if o.path is None]
    if len(streamed) > 1:
        raise AskedWronglyError("Standard output takes one result.", "Name files for the others.")
    return result


def _gives(step: Described, given: dict[str, str]) -> str:
    """The kind of the main result, as far as it is known without the libraries of a run."""
    if not step["gives_by_settings"]:
        return str(step["gives"])
    from moss_step.steps.catalogue import step_kind

    return step_kind(step["kind"]).result_by("", given).gives


def _run(step: Described, plan: Planned, asked: argparse.Namespace, progress: Progress) -> dict[str, Any]:
    """Run once, write, and tell of it."""
    from moss_step.kinds.registry import kind_named, kind_of
    from moss_step.steps.catalogue import step_kind
    from moss_step.study.direct import do_step
    from moss_step.study.hand_on import check_ending, check_not_a_source, hand_on
    from moss_step.study.record import of_one_run

    declared, sources = step_kind(step["kind"]), _sources(step, plan.given)
    for out in plan.outs:
        kind = kind_named(declared.result_by(out.result, plan.given).gives)
        if out.path is None:
            check_streamed(kind.noun.capitalize(), kind.streamed, kind.endings)
        else:
            check_ending(out.path, kind)
            check_not_a_source(out.path, sources)
    results = do_step(
        declared, plan.given, progress.part(0.0, _RUN), dict.fromkeys(o.result for o in plan.outs)
    )
    lost: list[str] = []
    for k, out in enumerate(plan.outs):
        outcome, name = results[out.result]
        text = of_one_run(step["kind"], plan.given, sources, outcome, name)
        outcome = replace(outcome, lineage=text)
        part = progress.part(_RUN + (1 - _RUN) * k / len(plan.outs), 1.0)
        if out.path is None:
            stream(kind_of(outcome.value).streamed, partial(hand_on, outcome, name, progress=part))
            continue
        make_folder(out.path)
        lost += hand_on(outcome, name, out.path, part)
        remember(out.path)
        if asked.lineage:
            write_text(out.path.with_suffix(".txt"), text)
            remember(out.path.with_suffix(".txt"))
    return _tell(step, plan, results, lost, asked)


def _sources(step: Described, given: dict[str, str]) -> list[str]:
    """Files that are read: all that is given but plain settings."""
    plain = {s["name"] for s in step["settings"] if s["control"] != "file"}
    return [v for n, v in given.items() if n not in plain]


def _tell(
    step: Described,
    plan: Planned,
    results: dict[str, tuple[Outcome, str]],
    lost: list[str],
    asked: argparse.Namespace,
) -> dict[str, Any]:
    """Say what was written and what is worth knowing; gives the same as plain data."""
    from moss_step.model.telling import USUAL

    outcomes = [outcome for outcome, _ in results.values()]
    warnings = dict.fromkeys([*(w for o in outcomes for w in o.warnings), *lost])
    told = {f: name for name, (o, _) in reversed(results.items()) for f in o.findings}
    of_result = ((f, told[f]) for f in dict.fromkeys(f for o in outcomes for f in o.findings))
    findings = [{**f.as_json(), **({"result": name} if name else {})} for f, name in of_result]
    data = {
        "kind": step["kind"],
        "outputs": [str(o) for o in plan.outs],
        "findings": findings,
        "warnings": list(warnings),
    }
    if asked.json or asked.quiet:
        return data
    to = sys.stderr if any(o.path is None for o in plan.outs) else sys.stdout
    for out in plan.outs:
        outcome, name = results[out.result]
        print(f"{name}: {USUAL.figure(outcome.figure)} -> {out}", file=to)
    for warning in warnings:
        print(f"  note: {warning}", file=to)
    if asked.verbose:
        for name, value in plan.given.items():
            print(f"  {name} = {value}", file=to)
        for f in findings:
            of = f"{f['class']}: " if "class" in f else ""
            unit = "" if f["unit"] in ("none", "count") else f" {f['unit']}"
            print(f"  {of}{f['title']} = {f['value']:.8g}{unit}", file=to)
    return data


def _input_of(step: Described, plan: Planned) -> str:
    names = [i["name"] for i in step["inputs"] if i["name"] in plan.given]
    return plan.given[names[0]] if names else step["kind"]


# --- what would run


def _tell_plans(step: Described, plans: list[Planned]) -> None:
    """Say what would run, what memory it takes, and how large its inputs are; nothing is read but heads."""
    from moss_step.line.sizes import expected

    for plan in plans:
        print(f"{step['kind']}: {step['question']}")
        for line in expected(step["kind"], plan.given):
            print(f"  {line}")
        for out in plan.outs:
            there = " (there already)" if out.path is not None and out.path.exists() else ""
            print(f"  -> {out}{there}")
