"""The benchmarks are run by hand: here they are held to names that there are."""

import ast
import importlib
import inspect
from pathlib import Path

import benchmarks
import pytest
from benchmarks import scale

from moss_step.formats.raster_write import write_surface
from tests.grounds import metric, relief

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


def test_a_simulated_scheduler_waits_for_workers_and_for_its_own_hands():
    from benchmarks.scale import DISPATCH, Phase, simulate

    one = Phase("OneWork", 0.5, 1e-6, 4.0)
    assert one.seconds(500_000) == 1.0
    alone, share = simulate([one], 200, 500_000, 1, 0.0)
    assert abs(alone * 3600 - 200) < 10
    assert share > 0.99
    ten, _ = simulate([one], 200, 500_000, 10, 0.0)
    assert 19 < ten * 3600 < 24
    short = Phase("OneWork", 0.0, 1e-9, 4.0)  # tiles that take less than handing them out
    busy, share = simulate([short], 5_000, 1_000, 100, 0.0)
    assert abs(busy * 3600 - 5_000 * DISPATCH) < 0.5
    assert share < 0.01
    barrier, _ = simulate([Phase("AddWork", 1.0, 0.0, 4.0)], 10, 1, 10, 60.0)
    assert barrier * 3600 > 60


def test_a_ground_is_drained_phase_by_phase(tmp_path):
    write_surface(tmp_path / "ground.tif", metric(relief(3, 600, 1100)), "ground")
    crew, seconds, nodes, passes = scale.run_once(tmp_path / "ground.tif", 512)
    assert {"DescendWork", "FillWork", "WaysWork", "AddWork"} <= set(crew.took)
    assert seconds > 0 and nodes > 1 and passes > 1
