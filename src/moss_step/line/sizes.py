"""What a run would take, told from the heads of its files."""

from __future__ import annotations

from collections.abc import Mapping

from moss_step.kinds.registry import kind_named
from moss_step.model.errors import MossError
from moss_step.model.memory import free_memory
from moss_step.model.outcome import Value
from moss_step.steps.catalogue import step_kind


def expected(kind: str, given: Mapping[str, str]) -> list[str]:
    """Lines on the inputs of a step and the memory that it takes.

    Raises MossError for files that are not there or cannot be read.
    """
    step = step_kind(kind)
    checked = step.checked({n: v for n, v in given.items() if step.input(n) is None})
    lines, inputs = [], dict[str, Value]()
    for name, source in given.items():
        spec = step.input(name)
        if spec is None or not source:
            continue
        stand_in = kind_named(spec.accepts).stand_in
        if stand_in is not None:
            inputs[name], said = stand_in(source)
            lines.append(f"{name}: {source}, {said}")
    try:
        need = step.bytes_needed(checked, inputs)
    except MossError as error:
        return [*lines, f"memory: not known before the run ({error})"]
    held = sum(v.nbytes for v in inputs.values())
    lines.append(
        f"memory: up to {_size(need + held)} with its inputs; {_size(free_memory())} are free"
        if need
        else f"memory: {_size(held)} for its inputs; {_size(free_memory())} are free"
    )
    return lines


def _size(nbytes: float) -> str:
    return f"{nbytes / 1e9:.1f} GB" if nbytes >= 1e9 else f"{max(nbytes / 1e6, 0.1):.1f} MB"
