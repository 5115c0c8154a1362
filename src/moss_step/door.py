"""Every step as a function of Python, made from its declaration: ``moss_step.slope(ground,
unit="percent").save("s.tif")``.
"""

from __future__ import annotations

import inspect
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from functools import partial
from pathlib import Path
from types import NoneType, UnionType
from typing import Any, Literal, Union, get_args, get_origin

import numpy as np

from moss_step.kinds.registry import kind_named, kind_of
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.findings import Finding
from moss_step.model.origin import Origin
from moss_step.model.outcome import Outcome, Value
from moss_step.model.progress import Progress
from moss_step.model.telling import USUAL
from moss_step.steps.catalogue import catalogue, describe, step_kind
from moss_step.steps.declare import InputSpec, StepKind
from moss_step.study.declared import run_declared
from moss_step.study.hand_on import check_not_a_source, hand_on
from moss_step.study.sources import origin_of_files

Given = "Result | Value | str | Path"
"""What an input takes: a result, a value, or the path of a file."""


@dataclass(frozen=True, eq=False)
class Result:
    """What a step gave: its ``value`` (a surface, class map, shapes or table), its name and main figure,
    findings and warnings.
    """

    value: Value
    name: str
    figure: str
    findings: tuple[Finding, ...] = ()
    warnings: tuple[str, ...] = ()
    sources: tuple[str, ...] = ()
    """Files that it came from: none of them can be written over."""
    beside: Mapping[str, Callable[[], Result]] = field(default_factory=dict, repr=False)
    """Further results by name; ``result["name"]`` gives one."""

    def __getitem__(self, name: str) -> Result:
        """Give a result beside the main one, worked out now.

        Raises AskedWronglyError when there is none of this name.
        """
        if name not in self.beside:
            raise AskedWronglyError(
                f"{self.name} has no result '{name}' beside it.",
                f"It has: {', '.join(self.beside) or 'none'}.",
            )
        return self.beside[name]()

    @property
    def array(self) -> np.ndarray:
        """Heights or other values (rows, cols), or class codes; no-data is NaN, no class 255. It cannot be
        written into.

        Raises MossError for shapes and tables.
        """
        array = kind_of(self.value).array
        if array is None:
            raise MossError(f"{self.name} is no grid.", "Its columns are in .columns.")
        return array(self.value)

    @property
    def columns(self) -> Mapping[str, np.ndarray]:
        """Columns of shapes or a table.

        Raises MossError for grids.
        """
        result = getattr(self.value, "columns", None)
        if result is None:
            raise MossError(f"{self.name} has no columns.", "Its cells are in .array.")
        columns: Mapping[str, np.ndarray] = result
        return columns

    def finding(self, name: str, of: str = "") -> float:
        """The number of a finding, in the unit that it carries; ``of`` names the class or observer where
        there are several.

        Raises AskedWronglyError when there is none.
        """
        for result in self.findings:
            if result.name == name and result.of == of:
                return result.value
        known = ", ".join(dict.fromkeys(f.name for f in self.findings)) or "none"
        raise AskedWronglyError(
            f"{self.name} has no finding '{name}'{f' of {of}' if of else ''}.", f"It has: {known}."
        )

    def save(self, path: str | Path) -> Path:
        """Write the result, whole or not at all, in the open format of the ending; gives the path.

        Raises MossError when it cannot be written, AskedWronglyError for an ending of another kind or a file
        that it came from.
        """
        target = Path(path)
        check_not_a_source(target, self.sources)
        hand_on(Outcome(self.value, self.figure, self.findings, self.warnings), self.name, target)
        return target

    def __repr__(self) -> str:
        return f"<{self.name}: {self.figure}>"


def function_of(step: StepKind) -> Callable[..., Result]:
    """A step as a function: inputs and files by place or name, settings by name."""
    signature = _signature(step)

    def run(*args: Any, **kwargs: Any) -> Result:
        further = {
            n: kwargs.pop(n) for n in list(kwargs) if step.further is not None and _is_further(step, n)
        }
        given = signature.bind(*args, **kwargs).arguments
        tell = given.pop("progress", None)
        progress = Progress(tell)
        values, names, sources = dict[str, Value](), dict[str, str](), list[str]()
        origins = dict[str, Origin]()
        for name, what in (given | further).items():
            spec = step.input(name)
            if spec is not None and what is not None:
                before = len(sources)
                values[name], names[name] = _value(spec, what, sources, progress)
                if step.records:
                    origins[name] = origin_of_files(names[name], sources[before:])
        settings = {n: _plain(v) for n, v in given.items() if step.input(n) is None}
        sources += [str(settings[n]) for n in step.file_settings if n in settings]
        outcome = run_declared(step, settings, values, progress, origins)
        name = step.label(step.checked(settings), names)
        return _result(step, outcome, name, tuple(sources))

    run.__name__ = run.__qualname__ = step.kind
    run.__module__ = "moss_step"
    run.__doc__ = documented(step)
    vars(run)["__signature__"] = signature  # read by help() and editors
    return run


def _result(step: StepKind, main: Outcome, name: str, sources: tuple[str, ...]) -> Result:
    """The results of a run as Python gets them."""

    def one(result: str) -> Result:
        outcome = step.outcome_of(main, result)
        beside = {r.name: partial(one, r.name) for r in step.beside} if not result else {}
        return Result(
            outcome.value,
            step.name_of(result, name),
            USUAL.figure(outcome.figure),
            outcome.findings,
            outcome.warnings,
            sources,
            beside,
        )

    return one("")


def _is_further(step: StepKind, name: str) -> bool:
    return (
        name not in step.settings.listed() and name != "progress" and all(i.name != name for i in step.inputs)
    )


def _value(spec: InputSpec, what: Any, sources: list[str], progress: Progress) -> tuple[Value, str]:
    """The value of an input and its name; files are read."""
    if isinstance(what, Result):
        sources += what.sources
        return what.value, what.name
    if isinstance(what, (str, Path)):
        value, _ = kind_named(spec.kind_of_file(Path(str(what)))).read(str(what), progress)
        sources.append(str(what))
        return value, Path(what).stem
    return what, spec.title


def _plain(value: Any) -> Any:
    """Paths and arrays as settings are written."""
    return (
        str(value)
        if isinstance(value, Path)
        else value.tolist()
        if isinstance(value, (np.ndarray, np.generic))
        else value
    )


def _signature(step: StepKind) -> inspect.Signature:
    place, word = inspect.Parameter.POSITIONAL_OR_KEYWORD, inspect.Parameter.KEYWORD_ONLY
    parameters = []
    for spec in sorted(step.inputs, key=lambda i: i.optional):
        wanted, default = (f"{Given} | None", None) if spec.optional else (Given, inspect.Parameter.empty)
        parameters.append(inspect.Parameter(spec.name, place, annotation=wanted, default=default))
    settings = sorted(step.settings.listed().items(), key=lambda item: item[0] not in step.file_settings)
    for name, about in settings:
        by_place = name in step.file_settings
        default = inspect.Parameter.empty if about.is_required() else about.default
        parameters.append(
            inspect.Parameter(
                name, place if by_place else word, annotation=words_of(about.annotation), default=default
            )
        )
    if step.further is not None:
        parameters.append(inspect.Parameter("inputs", inspect.Parameter.VAR_KEYWORD, annotation=Given))
    tell = inspect.Parameter("progress", word, annotation="Callable[[float, str], None] | None", default=None)
    named = [p for p in parameters if p.kind != inspect.Parameter.VAR_KEYWORD]
    last = [p for p in parameters if p.kind == inspect.Parameter.VAR_KEYWORD]
    order = sorted(
        [*named, tell],
        key=lambda p: (p.kind, p.default is not inspect.Parameter.empty if p.kind == place else False),
    )
    return inspect.Signature([*order, *last], return_annotation="Result")


def words_of(annotation: Any) -> str:
    """The type of a setting as it is written: what counts for the one who calls, not how it is checked."""
    origin = get_origin(annotation)
    if origin is Literal:
        return f"Literal[{', '.join(map(repr, get_args(annotation)))}]"
    if origin in (Union, UnionType):
        each = ["None" if a is NoneType else words_of(a) for a in get_args(annotation)]
        return " | ".join(dict.fromkeys(word for words in each for word in words.split(" | ")))
    if annotation in (str, int, float, bool):
        return str(annotation.__name__)
    if hasattr(annotation, "__metadata__"):
        return f"{words_of(get_args(annotation)[0])} | str"
    if origin in (tuple, list):
        inner = [words_of(a) if a is not ... else "..." for a in get_args(annotation)]
        return f"Sequence[{inner[0]}]" if len(set(inner) - {"..."}) == 1 else f"tuple[{', '.join(inner)}]"
    return "object"


def documented(step: StepKind) -> str:
    """The text of help() for a step, from its declaration."""
    said = describe(step)
    lines = [step.question, "", step.help, *(f"    {part}" for part in step.formula.split("; ") if part), ""]
    taken = [f"{i.name}: {i.help}{' May be left out.' if i.optional else ''}" for i in step.inputs]
    if step.further is not None:
        taken.append(f"any name: {step.further.help}")
    lines += (
        ["Inputs, each a result, a value or the path of a file:", *(f"    {t}" for t in taken), ""]
        if taken
        else []
    )
    if said["settings"]:
        lines.append("Settings:")
        for row in said["settings"]:
            unit = f" In {row['unit']}." if row["unit"] else ""
            default = "" if row["required"] else f" Default {row['default']!r}."
            lines.append(f"    {row['name']}: {row['help']}{unit}{default}")
        lines.append("")
    lines.append(f"Gives {kind_named(step.gives).noun}. Raises MossError.")
    lines += [f"Beside it [{r.name!r}]: {kind_named(r.gives).noun}. {r.help}" for r in step.beside]
    return "\n".join(lines)


def functions() -> dict[str, Callable[..., Result]]:
    """Functions of all steps by their names."""
    return {kind: function_of(step) for kind, step in catalogue().items()}


def function(name: str) -> Callable[..., Result]:
    """The function of one step.

    Raises AskedWronglyError when there is none.
    """
    return function_of(step_kind(name))
