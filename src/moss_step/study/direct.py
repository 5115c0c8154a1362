"""One step straight from files, without a study."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import replace
from pathlib import Path

from moss_step.formats.vector import split_layer
from moss_step.kinds.registry import kind_named
from moss_step.kinds.shapes import shapes_of
from moss_step.model.origin import Origin
from moss_step.model.outcome import Outcome, Value
from moss_step.model.progress import Progress
from moss_step.steps.declare import StepKind
from moss_step.study.declared import run_declared
from moss_step.study.sources import origin_of_files


def do_step(
    step: StepKind, given: Mapping[str, str], progress: Progress, asked: Iterable[str] = ("",)
) -> dict[str, tuple[Outcome, str]]:
    """Run one step with inputs from files and settings from text; gives each result that is asked for, and
    what to call it.

    Raises AskedWronglyError for unknown or impossible settings, MossError for files that cannot be used.
    """
    settings = {n: v for n, v in given.items() if step.input(n) is None}
    checked = step.checked(settings)
    inputs: dict[str, Value] = {}
    names: dict[str, str] = {}
    origins: dict[str, Origin] = {}
    remarks: list[str] = []
    for name, source in given.items():
        spec = step.input(name)
        if spec is not None and source:
            inputs[name], said = kind_named(spec.kind_of_file(Path(source))).read(source, progress)
            names[name] = split_layer(source)[0].stem if shapes_of(source) is None else "places"
            remarks += said
            if step.records:
                origins[name] = origin_of_files(names[name], [source])
    outcome = run_declared(step, settings, inputs, progress, origins)
    name = step.label(checked, names)
    results = {n: step.outcome_of(outcome, n) for n in asked}
    return {
        n: (
            replace(o, warnings=tuple(dict.fromkeys((*remarks, *o.warnings))), beside={}),
            step.name_of(n, name),
        )
        for n, o in results.items()
    }
