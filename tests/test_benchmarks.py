"""The benchmarks are run by hand: here they are held to names that there are."""

import ast
import importlib
import inspect
from pathlib import Path

import benchmarks
import pytest

MODULES = sorted(
    p.stem for p in Path(benchmarks.__file__).parent.glob("*.py") if p.stem not in ("__init__", "__main__")
)


@pytest.mark.parametrize("name", MODULES)
def test_a_benchmark_asks_the_program_for_what_it_has(name):
    module = importlib.import_module(f"benchmarks.{name}")
    ours = {
        n: v
        for n, v in vars(module).items()
        if inspect.ismodule(v) and v.__name__.startswith(("moss_step", "benchmarks", "tests"))
    }
    tree = ast.parse(inspect.getsource(module))
    asked = [
        (n.value.id, n.attr)
        for n in ast.walk(tree)
        if isinstance(n, ast.Attribute) and isinstance(n.value, ast.Name) and n.value.id in ours
    ]
    assert [f"{of}.{what}" for of, what in asked if not hasattr(ours[of], what)] == []
    private = [f"{of}.{what}" for of, what in asked if what.startswith("_")]
    assert private == [], "what is private changes without notice"
    for node in ast.walk(tree):  # imports within functions, too
        if isinstance(node, ast.ImportFrom) and (node.module or "").startswith(("moss_step", "tests")):
            there = importlib.import_module(node.module)
            for alias in node.names:
                assert hasattr(there, alias.name) or importlib.import_module(f"{node.module}.{alias.name}"), (
                    alias.name
                )
