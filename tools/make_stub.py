"""Write the types of the functions that ``import moss_step`` gives, from the catalogue: ``python tools/make_stub.py``."""

from __future__ import annotations

import inspect
from pathlib import Path

from moss_step.door import functions

TARGET = Path(__file__).parent.parent / "src/moss_step/__init__.pyi"
HEAD = '''"""Types of the steps as functions; written by tools/make_stub.py from their declarations."""

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Literal

from moss_step.door import Result as Result
from moss_step.model.errors import AskedWronglyError as AskedWronglyError
from moss_step.model.errors import MossError as MossError
from moss_step.model.outcome import Value

__version__: str
'''


def text() -> str:
    """All of the file."""
    return "\n".join([HEAD, *(stub(name, inspect.signature(function)) for name, function in sorted(functions().items()))])


def stub(name: str, signature: inspect.Signature) -> str:
    """A function of the file, with a line for each of its parameters."""
    lines, starred = [f"def {name}("], False
    for parameter in signature.parameters.values():
        if parameter.kind == inspect.Parameter.KEYWORD_ONLY and not starred:
            lines.append("    *,")
            starred = True
        mark = "**" if parameter.kind == inspect.Parameter.VAR_KEYWORD else ""
        default = "" if parameter.default is inspect.Parameter.empty else f" = {written(parameter.default)}"
        lines.append(f"    {mark}{parameter.name}: {quoted(parameter.annotation)}{default},")
    return "\n".join([*lines, f") -> {signature.return_annotation}: ...\n"])


def written(default: object) -> str:
    """A default as a formatter writes it."""
    return f'"{default}"' if isinstance(default, str) else repr(default)


def quoted(annotation: str) -> str:
    """A type with its texts as a formatter writes them."""
    return annotation.replace("'", '"')


if __name__ == "__main__":
    TARGET.write_text(text())
