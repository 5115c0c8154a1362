"""One run of each step on the command line that can be copied: what its help shows, and a test runs."""

from __future__ import annotations

import re

from moss_step.kinds.registry import kind_named
from moss_step.steps.declare import InputSpec, StepKind

_BY_QUANTITY = {"elevation": "ground.tif", "seen": "seen.tif", "drain_height": "above_water.tif"}


def example_of(step: StepKind) -> str:
    """The words after ``moss-step``: the step, its inputs, what must be said besides, and where it goes."""
    named = set(re.findall(r"(?:^| )(\w+)=", step.example))
    inputs = [f"{i.name}={_file(i)}" for i in step.inputs if not i.optional and i.name not in named]
    out = f"-o {step.kind}{kind_named(step.gives).endings[0]}"
    return " ".join(filter(None, ["do", step.kind, *inputs, step.example, out]))


def _file(spec: InputSpec) -> str:
    return _BY_QUANTITY.get(spec.quantity) or kind_named(spec.accepts).sample
