"""One step straight from files, without a study."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
import shapely

from moss_step.formats.raster import read_class_map, read_surface, split_band
from moss_step.formats.vector import read_shapes, split_layer
from moss_step.model.progress import Progress
from moss_step.model.shapes import Shapes
from moss_step.steps.declare import InputSpec, Outcome, StepKind, Value
from moss_step.study.engine import run_declared


def do_step(step: StepKind, given: Mapping[str, str], progress: Progress) -> tuple[Outcome, str]:
    """Run one step with inputs from files and settings from text; gives the result and its name.

    Raises AskedWronglyError for unknown or impossible settings, MossError for files that cannot be used.
    """
    settings = {n: v for n, v in given.items() if step.input(n) is None}
    checked = step.checked(settings)
    inputs: dict[str, Value] = {}
    names: dict[str, str] = {}
    remarks: list[str] = []
    for name, source in given.items():
        spec = step.input(name)
        if spec is not None and source:
            inputs[name], said = read_input(spec, source, progress)
            names[name] = split_layer(source)[0].stem if shapes_of(source) is None else "places"
            remarks += said
    outcome = run_declared(step, settings, inputs, progress)
    warnings = tuple(dict.fromkeys((*remarks, *outcome.warnings)))
    return Outcome(outcome.value, outcome.figure, outcome.findings, warnings), step.label(checked, names)


def shapes_of(text: str) -> Shapes | None:
    """Shapes written as coordinates: points x,y;x,y or one line x1,y1,x2,y2; None for anything else.

    They lie in the system of whatever they are used with.
    """
    try:
        parts = [[float(v) for v in part.split(",")] for part in text.split(";") if part.strip()]
    except ValueError:
        return None
    if parts and all(len(p) == 2 for p in parts):
        return Shapes(np.array([shapely.Point(p) for p in parts], object))
    if len(parts) == 1 and len(parts[0]) == 4:
        return Shapes(np.array([shapely.LineString([parts[0][:2], parts[0][2:]])], object))
    return None


def read_input(spec: InputSpec, source: str, progress: Progress) -> tuple[Value, list[str]]:
    """Read a file as the kind of value that an input takes, with remarks."""
    if spec.accepts == "shapes" and (shapes := shapes_of(source)) is not None:
        return shapes, []
    if spec.accepts == "shapes":
        return read_shapes(*split_layer(source)), []
    if spec.accepts == "classes":
        return read_class_map(split_layer(source)[0]), []
    surface, remarks = read_surface(*split_band(source), progress=progress)
    if surface.frame.crs is None:
        remarks.append("No reference system is stated: distances are taken as metres.")
    return surface, remarks
