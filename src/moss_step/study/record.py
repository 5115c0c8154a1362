"""The record of lineage: how a result came about, as text that a person reads."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import replace
from datetime import UTC, datetime
from typing import TypeVar

from moss_step import __version__
from moss_step.kinds.registry import kind_of
from moss_step.model.findings import Finding
from moss_step.model.outcome import Outcome
from moss_step.model.typed import one_line
from moss_step.steps.catalogue import step_kind
from moss_step.steps.declare import extra
from moss_step.study.engine import Engine
from moss_step.study.graph import Step, Study
from moss_step.study.sources import Sources
from moss_step.study.store import Said

T = TypeVar("T")


def lineage(study: Study, ref: str, engine: Engine, dated: bool = True) -> str:
    """Write how a result came about, from the source files on: steps, settings, frames, findings, remarks;
    ``dated`` also when it was written.
    """
    steps = study.needs([ref])
    lines = [
        f"# {study.name_of(ref)}",
        "",
        f"Study: {study.name}",
        *([_written()] if dated else []),
        "",
    ]
    for number, step in enumerate(steps, start=1):
        lines += _step_lines(number, step, study, engine)
    return _text(lines).rstrip() + "\n"


def _written() -> str:
    return f"Written: {datetime.now(UTC):%Y-%m-%d %H:%M} UTC by Moss Step {__version__}"


def of_one_run(
    kind: str, given: Mapping[str, str], sources: Iterable[str], outcome: Outcome, name: str
) -> str:
    """Write how the result of one step without a study came about."""
    step = step_kind(kind)
    lines = [
        f"# {name}",
        "",
        _written(),
        "",
        f"{step.title} ({kind}). {step.help}",
        "",
        *(f"- {n}: {v}" for n, v in given.items()),
    ]
    looked = Sources()
    for source in sources:
        digest = looked.look(source)
        if digest is not None:
            lines.append(f"- content of {source} (BLAKE3): {digest[:32]}")
    lines.append(f"- result: {kind_of(outcome.value).describe(outcome.value)}")
    lines += [f"- {_finding_text(f)}" for f in outcome.findings]
    lines += [f"- note: {w}" for w in outcome.warnings]
    return _text(lines) + "\n"


def _text(lines: Iterable[str]) -> str:
    """Lines as text: names and settings come from outside, and none of them makes a line of its own."""
    return "\n".join(one_line(line) for line in lines)


def _step_lines(number: int, step: Step, study: Study, engine: Engine) -> list[str]:
    declared = step.declared
    lines = [
        f"## {number}. {study.name_of(step.id)}",
        "",
        f"{declared.title} ({declared.kind}). {declared.help}",
        "",
    ]
    lines += [f"- from {name}: {study.name_of(ref)}" for name, ref in step.inputs.items()]
    settings = declared.checked(step.settings)
    for name, field in declared.settings.listed().items():
        unit = extra(field, "unit")
        lines.append(f"- {field.title}: {setting_text(getattr(settings, name))}{' ' + unit if unit else ''}")
    for file in step.files:
        digest = engine.file_hash(file)
        if digest:
            lines.append(f"- content of the file (BLAKE3): {digest[:32]}")
    said = engine.said(study, step.id)
    if said is None:
        failed = engine.failure(study, step.id)
        return [*lines, f"- no result: {failed.reason if failed else 'not run'}", ""]
    lines += _result_lines("result", said)
    for ref, spec in zip(step.refs[1:], declared.beside, strict=True):
        beside = engine.said(study, ref)
        if beside is not None:
            message = replace(
                beside,
                findings=_without(beside.findings, said.findings),
                warnings=_without(beside.warnings, said.warnings),
            )
            lines += _result_lines(f"result {spec.name}, {spec.title.lower()}", message)
    return [*lines, ""]


def _without(what: tuple[T, ...], known: tuple[T, ...]) -> tuple[T, ...]:
    return tuple(w for w in what if w not in known)


def _result_lines(what: str, said: Said) -> list[str]:
    lines = [f"- {what}: {said.described}"]
    lines += [f"- {_finding_text(f)}" for f in said.findings]
    lines += [f"- note: {w}" for w in said.warnings]
    return lines


def setting_text(value: object) -> str:
    """A setting as a person reads it."""
    if value is None:
        return "none"
    if isinstance(value, tuple) and value and hasattr(value[0], "code"):
        return "; ".join(f"{_end(r.low)} to {_end(r.high)} = {r.code} {r.name}" for r in value)
    if isinstance(value, tuple):
        return ", ".join(f"{v:.12g}" if isinstance(v, float) else str(v) for v in value)
    return f"{value:.12g}" if isinstance(value, float) else str(value)


def _end(value: float | None) -> str:
    return "open" if value is None else f"{value:g}"


def _finding_text(finding: Finding) -> str:
    of = f"{finding.of}: " if finding.of else ""
    value = f"{finding.value:,.0f}" if float(finding.value).is_integer() else f"{finding.value:,.6g}"
    return f"{of}{finding.title}, {finding.name} = {value} {finding.unit.symbol}".rstrip()
