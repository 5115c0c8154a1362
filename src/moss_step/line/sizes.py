"""What a run would take, told from the heads of its files."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from moss_step.formats.raster import describe, split_band
from moss_step.formats.vector import read_shapes, split_layer
from moss_step.kinds.shapes import shapes_of
from moss_step.model.class_map import ClassMap
from moss_step.model.errors import MossError
from moss_step.model.frame import Frame
from moss_step.model.memory import free_memory
from moss_step.model.outcome import Value
from moss_step.model.surface import Surface
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
        inputs[name], said = _stand_in(spec.accepts, source)
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


def _stand_in(accepts: str, source: str) -> tuple[Value, str]:
    """A value of the size of a file's, and that size in words; cells are zeros that take no memory."""
    if accepts == "shapes":
        given = shapes_of(source)
        shapes = given if given is not None else read_shapes(*split_layer(source))
        return shapes, shapes.count_text
    path, band = split_band(source)
    facts = describe(path, band)
    frame = Frame(facts.rows, facts.cols, 0.0, 0.0, 1.0, 1.0, None)
    said = f"{facts.rows:,} x {facts.cols:,} cells".replace(",", " ")
    if accepts == "classes":
        return ClassMap(np.zeros((facts.rows, facts.cols), np.uint8), frame, ()), said
    return Surface(np.zeros((facts.rows, facts.cols), np.float32), frame), said


def _size(nbytes: float) -> str:
    return f"{nbytes / 1e9:.1f} GB" if nbytes >= 1e9 else f"{max(nbytes / 1e6, 0.1):.1f} MB"
