"""What the science says of itself: every public function has its parameters, results and errors in sections, and an example that runs."""

import ast
import doctest
import importlib
import inspect
import pkgutil

import pytest

from moss_step import science

MODULES = sorted(
    m.name
    for m in pkgutil.walk_packages(science.__path__, "moss_step.science.")
    if not m.ispkg and ".kernels." not in m.name
)


def functions(module):
    own = vars(importlib.import_module(module)).items()
    return [
        (n, f) for n, f in own if inspect.isfunction(f) and not n.startswith("_") and f.__module__ == module
    ]


def section(doc: str, title: str) -> str:
    """The text of a section; empty when there is none."""
    _, mark, rest = doc.partition(f"\n{title}\n{'-' * len(title)}\n")
    return rest.split("\n\n")[0] if mark else ""


@pytest.mark.parametrize("module", MODULES)
def test_parameters_results_errors_and_an_example_are_in_sections(module):
    for name, function in functions(module):
        doc, signature = inspect.getdoc(function), inspect.signature(function)
        listed = [
            line for line in section(doc, "Parameters").splitlines() if line and not line.startswith(" ")
        ]
        assert listed == list(signature.parameters), f"{module}.{name}"
        returns = section(doc, "Returns").splitlines()
        assert len(returns) > 1 and returns[1].startswith("    "), f"{module}.{name}"
        assert ">>> " in section(doc, "Examples"), f"{module}.{name} has no example"
        raised = {
            node.exc.func.id
            for node in ast.walk(ast.parse(inspect.getsource(function)))
            if isinstance(node, ast.Raise)
            and isinstance(node.exc, ast.Call)
            and isinstance(node.exc.func, ast.Name)
        }
        said = {line for line in section(doc, "Raises").splitlines() if line and not line.startswith(" ")}
        assert raised <= said, f"{module}.{name} raises {raised - said}"


def test_examples_run():
    ran = 0
    for module in MODULES:
        result = doctest.testmod(importlib.import_module(module))
        assert result.failed == 0, module
        ran += result.attempted
    assert ran > 500


def test_published_methods_name_their_source():
    sources = [n for m in MODULES for n, f in functions(m) if section(inspect.getdoc(f), "Source")]
    assert {"slope", "wetness", "viewshed", "natural_breaks", "drain_height", "breached_surface"} <= set(
        sources
    )
    assert len(sources) > 40
