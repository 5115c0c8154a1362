"""All benches, found in the modules of this package; a bench without a class of its own offers its steps
alike.
"""

from __future__ import annotations

import importlib
import pkgutil
from functools import lru_cache

from moss_step.desk import benches
from moss_step.desk.benches.bench import Bench
from moss_step.desk.benches.steps import StepBench
from moss_step.desk.work import Work
from moss_step.steps.catalogue import BENCHES, catalogue


@lru_cache(maxsize=1)
def bench_types() -> dict[str, type[Bench]]:
    """The class of each bench that has one of its own, by name."""
    modules = [
        importlib.import_module(f"{benches.__name__}.{m.name}")
        for m in pkgutil.iter_modules(benches.__path__)
        if m.name != "registry"
    ]
    result = [
        v for module in modules for v in vars(module).values() if isinstance(v, type) and issubclass(v, Bench)
    ]
    return {t.name: t for t in result if t.name}


def make_benches(work: Work) -> dict[str, Bench]:
    """A bench of each name that has steps, or a class of its own, in their order."""
    types, filled = bench_types(), {k.bench for k in catalogue().values()}
    return {
        name: types.get(name, StepBench)(work, name) for name in BENCHES if name in types or name in filled
    }
