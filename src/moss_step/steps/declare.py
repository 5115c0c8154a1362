"""How a step is declared: its question, inputs, settings and results, from which everything else is made."""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Collection, Mapping
from dataclasses import dataclass, field, replace
from functools import cache, cached_property
from pathlib import Path
from typing import Any, ClassVar, TypeVar

from pydantic import (
    BaseModel,
    ConfigDict,
    Field,
    ValidationError,
    ValidationInfo,
    field_validator,
    model_validator,
)
from pydantic.fields import FieldInfo

from moss_step.formats.windows import GridSource
from moss_step.kinds.registry import is_mapped, kind_named, kind_of
from moss_step.model.class_map import ClassMap
from moss_step.model.errors import AskedWronglyError
from moss_step.model.frame import Box
from moss_step.model.nearest import meant
from moss_step.model.outcome import Outcome, Value
from moss_step.model.progress import Progress
from moss_step.model.rules import RuleSet
from moss_step.model.typed import is_text, of_kind
from moss_step.steps.reach import WHOLE, Reach

Inputs = Mapping[str, Value]
S = TypeVar("S", bound="Settings")
K = TypeVar("K")


MOST, LEAST = 1e15, 1e-12
"""No setting is larger, up or down, or nearer to 0 without being 0: the earth has 5e14 square metres."""


class Settings(BaseModel):
    """Base of all settings: unknown names, and numbers beyond ``MOST`` and ``LEAST`` or that are none, are
    refused; values are frozen.
    """

    # What checks them is built when a step is first used, not for every step at each start.
    model_config = ConfigDict(extra="forbid", frozen=True, defer_build=True, allow_inf_nan=False)
    unlisted: ClassVar[tuple[str, ...]] = ()
    """Settings of a base class that mean nothing here: they are not shown, not told of, and refused."""

    marks: ClassVar[tuple[str, ...]] = ()
    """Settings that are marks, and no amounts: they may be any number, such as the lowest that a file can
    hold.
    """

    @model_validator(mode="before")
    @classmethod
    def _lists_of_text(cls, given: Any) -> Any:
        """A list that is written as JSON is one, where a setting takes more than text: the command line has
        no other way to say whatever a study may hold.
        """
        if not isinstance(given, dict) or not any(
            isinstance(v, str) and v[:1] in "[{" for v in given.values()
        ):
            return given
        return {n: _listed_value(cls, n, v) for n, v in given.items()}

    @field_validator("*", mode="after")
    @classmethod
    def _within(cls, value: Any, about: ValidationInfo) -> Any:
        """Refuse what no ground can have before anything is worked out with it."""
        if about.field_name not in cls.marks and beyond(value):
            raise ValueError(f"from {-MOST:g} to {MOST:g}, and not nearer to 0 than {LEAST:g}")
        return value

    @classmethod
    def listed(cls) -> dict[str, FieldInfo]:
        """The settings that count, by name in their declared order."""
        return _listed(cls)


def _listed_value(kind: type[Settings], name: str, value: Any) -> Any:
    field = kind.model_fields.get(name)
    if field is None or not isinstance(value, str) or value[:1] not in ("[", "{"):
        return value
    if field.annotation in (str, str | None):
        return value
    try:
        return json.loads(value)
    except (ValueError, RecursionError):
        return value  # what checks the setting says what it should be


@cache
def _listed(kind: type[Settings]) -> dict[str, FieldInfo]:
    return {n: f for n, f in kind.model_fields.items() if n not in kind.unlisted}


def beyond(value: object) -> bool:
    """Whether a number, or one within tuples and lists, is larger or smaller than any setting may be, or is
    no number.
    """
    if isinstance(value, (tuple, list)):
        return any(beyond(v) for v in value)
    return isinstance(value, (int, float)) and value != 0 and not LEAST <= abs(value) <= MOST


def setting(
    default: Any,
    title: str,
    help: str,
    unit: str = "",
    control: str = "",
    when: Mapping[str, tuple[Any, ...]] | None = None,
    with_input: str = "",
    without_input: str = "",
    more: bool = False,
    **limits: Any,
) -> Any:
    """Declare one setting: its default, title, help, unit and limits (``ge``, ``le``, ``gt``, ``lt``).

    ``control`` names a special kind of value: ``file``, ``box``, ``crs``, ``rules``, ``formula``, ``line``,
    ``outline``, ``path``, ``points``, ``slider``, ``observers``, ``picks`` or ``point_class``. A setting that
    counts only beside some values of another one names it in ``when``; one that counts only with, or without,
    an input names that. ``more`` is one that not every use needs: forms fold it away. In the help a choice
    stands in backticks, and what concerns the command line alone in double brackets.
    """
    about: Any = {
        "unit": unit,
        "control": control,
        "when": dict(when or {}),
        "with_input": with_input,
        "without_input": without_input,
        "more": more,
    }
    return Field(default, title=title, description=help, json_schema_extra=about, **limits)


def extra(field: FieldInfo, name: str) -> str:
    """Give the unit, control or input that a setting was declared with; ``more`` is empty or not."""
    result = field.json_schema_extra
    return str(result.get(name, "") or "") if isinstance(result, dict) else ""


def on_screen(help: str) -> str:
    """A help as it is read beside its control: choices in the words of their buttons."""
    plain = re.sub(r" ?\[\[.*?\]\]", "", help).strip()
    return re.sub(r"`(\w+)`", lambda m: option_words(m[1]), plain)


def in_text(help: str) -> str:
    """A help as it is read on the command line: choices as they are typed."""
    return re.sub(r"\[\[|\]\]|`", "", help)


_SHORT = ("tin", "tcp", "udp")
"""Options that the trade writes in capitals."""


def option_words(option: str) -> str:
    """A choice as its button says it."""
    words = [w.upper() if w in _SHORT else w for w in option.split("_")]
    return " ".join([words[0] if words[0].isupper() else words[0].capitalize(), *words[1:]])


def idle_reason(field: FieldInfo, values: Mapping[str, Any], inputs: Collection[str]) -> str:
    """Say why a setting counts for nothing beside other values and inputs; empty when it counts."""
    result = field.json_schema_extra
    if not isinstance(result, dict):
        return ""
    conditions: Any = result.get("when", {})
    for other, wanted in conditions.items():
        if other in values and values[other] not in wanted and wanted == (None,):
            return f"only without {other}"
        if other in values and values[other] not in wanted:
            return (
                "only with "
                f"{other}={' or '.join(str(w).lower() if isinstance(w, bool) else str(w) for w in wanted)}"
            )
    needed, barred = extra(field, "with_input"), extra(field, "without_input")
    if needed and needed not in inputs:
        return f"only with {needed}"
    return f"only without {barred}" if barred and barred in inputs else ""


@dataclass(frozen=True)
class InputSpec:
    """One input: its name, the kind of value it takes, and whether it may be left out."""

    name: str
    accepts: str
    title: str
    help: str
    optional: bool = False
    quantity: str = ""
    more: bool = False
    """Whether not every use needs it: forms fold it away."""
    shapes: str = ""
    """Of shapes the kinds that it is for: points, lines, areas, or several with a space; empty for any."""
    also: tuple[str, ...] = ()
    """Further kinds of value that it takes."""

    def takes(self, value: Value) -> bool:
        """Whether a value can be this input."""
        return self.takes_one_of(type(value), getattr(value, "quantity", ""))

    def takes_one_of(self, kind: type, quantity: str) -> bool:
        """Whether values of a type, and surfaces of a quantity, can be this input."""
        if quantity == "yes_no" and self.accepts == "surface":
            return not self.quantity
        if any(issubclass(kind, kind_named(other).type) for other in self.also):
            return True
        return issubclass(kind, kind_named(self.accepts).type) and self.quantity in ("", quantity)

    def kind_of_file(self, path: Path) -> str:
        """The kind of value that a file holds for it, by its ending."""
        ending = path.suffix.lower()
        others = (name for name in self.also if ending in kind_named(name).endings)
        own = kind_named(self.accepts).endings
        return self.accepts if ending in own else next(others, self.accepts)

    def taken(self, value: Value) -> Value:
        """A value as this input: where a surface is wanted a map of yes and no is one of 1 and 0."""
        answers = of_kind(value, ClassMap) if self.accepts == "surface" else None
        return value if answers is None else answers.as_surface()


@dataclass(frozen=True)
class ResultSpec:
    """One result of a step: its name (empty for the main one), the kind of value, a short title, and how the
    Key draws it at first.
    """

    name: str
    gives: str
    title: str
    help: str
    look: Mapping[str, Any] = field(default_factory=dict)
    asked: bool = False
    """Worked out only when something asks for it: it takes as much memory as the main result, and is wanted
    seldom.
    """
    was: str = ""
    """How older studies got it: a kind of step, or ``setting=value`` of this one."""


@dataclass(frozen=True)
class Planned:
    """One of the steps that answer a question together: a name by which later ones take its result (or
    ``name.result`` one beside it), its kind, its inputs as names of the question's inputs or of earlier
    steps, its settings, and a title for it.
    """

    name: str
    kind: str
    inputs: Mapping[str, str]
    settings: Mapping[str, Any] = field(default_factory=dict)
    title: str = ""


@dataclass(frozen=True)
class StepKind:
    """One operation. ``run`` takes settings, inputs by name and a progress; ``label`` names a result from
    them.
    """

    kind: str
    bench: str
    title: str
    question: str
    help: str
    words: tuple[str, ...]
    inputs: tuple[InputSpec, ...]
    settings: type[Settings]
    gives: str
    run: Callable[[Any, Inputs, Progress], Outcome]
    label: Callable[[Any, Mapping[str, str]], str]
    further: InputSpec | None = None
    """Any number of further inputs of one kind, under names that the person gives."""
    look: Mapping[str, Any] = field(default_factory=dict)
    """How the Key draws a result at first: values of a row of the Key."""
    memory: float | Callable[[Any, Inputs], float] = 0.0
    """Bytes that a run takes at the most beside its inputs, its result included: for each cell of the largest
    grid among these, or in all, as a function of settings and inputs says. ``benchmarks.every_step`` measures
    them, and a test holds them against it.
    """
    group: str = ""
    """Heading of its bench that it stands under, one of ``catalogue.GROUPS``: its close relatives have the
    same.
    """
    staple: int = 99
    """Place among the steps of its bench, for those that are used most: they stand first, in this order."""
    reach: Reach = WHOLE
    """How far it looks from a cell. A local one is held against runs on parts of a ground by a test."""
    beside: tuple[ResultSpec, ...] = ()
    """What it gives beside its main result, each under a name: ``Outcome.beside`` of a run holds them."""
    main: str = ""
    """Short title of the main result, where there are several."""
    opens: tuple[str, ...] = ()
    """Endings of the files that it reads as ``source``; ``*`` for any that no other step names."""
    hears: bool = False
    """Whether what it opens may also be heard from a device while that runs."""
    sources: Callable[[Path], list[str]] = lambda path: [str(path)]
    """The sources in a file of these, such as its layers."""
    ranges: Callable[[Any], RuleSet | None] | None = None
    """Ranges of its settings by which its first surface is drawn while it is made, with no run; None where a
    run is needed.
    """
    keeps: str = ""
    """What of a view it keeps as a step: the ``section`` along a line, the points that a ``lasso`` holds, the
    ``rows`` that are selected, the ``shapes`` that were measured, the ``difference`` of two surfaces or the
    ``change`` of two class maps that are compared, or a surface on the ``cells`` of another.
    """
    plan: Callable[[Any, Mapping[str, str]], tuple[Planned, ...]] | None = None
    """The ordinary steps that it is kept as, the one that gives its result last: of a question that takes
    several. It is given the settings and the inputs.
    """
    gives_by: Callable[[Mapping[str, Any]], str] | None = None
    """The kind of the main result by the settings as they are written; empty where it is always ``gives``."""
    draws: Callable[[Any], Mapping[str, Any]] | None = None
    """How the Key draws the main result at first, by the settings; beside what ``look`` says."""
    records: bool = False
    """Whether it writes down what its inputs are called and the files that they came from."""
    between: tuple[str, str] = ("", "")
    """Of heights that it compares, what lies below and what is measured: inputs, or results of its own with a
    dot before their names. A section shades cut and fill between them.
    """
    formula: str = ""
    """How a value is worked out, in the signs of the trade; empty where nothing is: files opened, shapes
    drawn, and plans of other steps. Parts are set apart by ``; ``, and shown as lines.
    """
    example: str = ""
    """Words of a run on the command line, after the kind, for the help. Inputs that it does not name stand
    there under the usual names of ``steps/example.py``; a test runs it on these files.
    """
    foretaste: Callable[[Any, Progress], Outcome | None] | None = None
    """A part of the result by the settings, soon, to be drawn while the whole is worked out; None where that
    is quick.
    """
    around: Callable[[Any, Mapping[str, Value], str | None], Box | None] | None = None
    """The box that all it looks at lies in, in the system of a grid; None where that may be all of it. Of a
    grid too large for memory only this is read.
    """
    cuts: bool = False
    """Whether its result is what lies in the box of ``around``, however large the ground is."""
    maps: bool = False
    """Whether it works on grids that are mapped from files, and maps what it makes beside them: then it takes
    no more memory than some rows of them.
    """
    on_disk: Callable[[Any], GridSource | None] | None = None
    """The grid that it opens, as one that stays on the disk; None where its settings ask for more."""
    tells: Callable[[Any, Any], Outcome] | None = None
    """What is said of the main result by settings and value, where more is told than range or counts: of a
    part of it, too.
    """
    retired: tuple[str, ...] = ()
    """Settings of older studies that never counted for anything, and are left out when one is opened."""

    @cached_property
    def results(self) -> dict[str, ResultSpec]:
        """All results by name, the main one first, under an empty name."""
        main = ResultSpec("", self.gives, self.main or self.title, self.help, self.look)
        return {r.name: r for r in (main, *self.beside)}

    def result(self, name: str) -> ResultSpec:
        """Give a result by its name.

        Raises AskedWronglyError that says which there are.
        """
        if name not in self.results:
            known = ", ".join(n for n in self.results if n)
            raise AskedWronglyError(
                f"{self.kind} gives no '{name}'.", f"Beside its main result it gives: {known or 'nothing'}."
            )
        return self.results[name]

    def record_for(self, ending: str) -> str:
        """The result that a record is, in a file of an ending: shapes with all figures, else the table."""
        free = (r for r in self.beside if r.gives == "shapes" and not r.asked)
        shapes = next((r for r in free if ending in kind_named(r.gives).endings), None)
        return "record" if shapes is None else shapes.name

    def result_by(self, name: str, given: Mapping[str, Any]) -> ResultSpec:
        """Give a result by its name, as settings make it.

        Raises AskedWronglyError that says which there are.
        """
        spec = self.result(name)
        return spec if name or self.gives_by is None else replace(spec, gives=self.gives_by(given))

    def setting_by(self, control: str) -> str:
        """Name of the setting that has a special kind of value.

        Raises StopIteration when none has.
        """
        return next(n for n, f in self.settings.listed().items() if extra(f, "control") == control)

    def name_of(self, result: str, main: str) -> str:
        """What a result is called where the main one has a name."""
        return main if not result else f"{main}, {self.result(result).title.lower()}"

    def outcome_of(self, outcome: Outcome, result: str) -> Outcome:
        """Give one result of a run; those beside the main one are worked out now."""
        return outcome.beside[self.result(result).name]() if result else outcome

    def idle(self, settings: Settings, inputs: Collection[str]) -> dict[str, str]:
        """Settings that differ from their default and count for nothing as the others stand, with the
        reason.
        """
        listed = self.settings.listed()
        values = {n: getattr(settings, n) for n in listed}
        changed = {
            n: listed[n]
            for n in settings.model_fields_set
            if n in listed and not listed[n].is_required() and values[n] != listed[n].default
        }
        result = {n: idle_reason(f, values, inputs) for n, f in changed.items()}
        return {n: why for n, why in result.items() if why}

    def cleaned(self, given: Mapping[str, Any], inputs: Collection[str]) -> dict[str, Any]:
        """Settings of an older study without those that counted for nothing."""
        left = {n: v for n, v in given.items() if n not in self.retired}
        return {n: v for n, v in left.items() if n not in self.idle(self.checked(left), inputs)}

    def checked(self, given: Mapping[str, Any]) -> Settings:
        """Build the settings from plain values.

        Raises AskedWronglyError that names the setting, the value and what is allowed.
        """
        unknown = [n for n in given if n not in self.settings.listed()]
        if unknown:
            allowed = [*(i.name for i in self.inputs), *self.settings.listed()]
            raise AskedWronglyError(
                f"`{self.kind}` has no setting '{unknown[0]}'.",
                f"{meant(unknown[0], allowed)} It has: {', '.join(allowed) or 'none'}.".strip(),
            )
        for name, value in given.items():
            if isinstance(value, str) and name not in self.file_settings and not is_text(value):
                raise AskedWronglyError(f"`{name}` holds characters that are no text.", "Type it again.")
        try:
            return self.settings.model_validate(dict(given))
        except ValidationError as error:
            raise AskedWronglyError(*self._wrong(error)) from error

    def input(self, name: str) -> InputSpec | None:
        """Give the input with a name."""
        result = next((i for i in self.inputs if i.name == name), None)
        if result is None and self.further is not None and name not in self.settings.listed():
            return self.further if name.isidentifier() else None
        return result

    def taken(self, inputs: Inputs) -> dict[str, Value]:
        """Inputs as the run takes them."""
        specs = {n: self.input(n) for n in inputs}
        return {n: v if (spec := specs[n]) is None else spec.taken(v) for n, v in inputs.items()}

    def bytes_needed(self, settings: Settings, inputs: Inputs) -> int:
        """Bytes that a run takes at the most beside its inputs."""
        mapped = self.maps and any(map(is_mapped, inputs.values()))
        return 0 if mapped else self.bytes_in_memory(settings, inputs)

    def bytes_in_memory(self, settings: Settings, inputs: Inputs) -> int:
        """The same where nothing is mapped."""
        if callable(self.memory):
            return int(self.memory(settings, inputs))
        return int(self.memory * largest_grid(inputs))

    def words_of(self, name: str) -> str:
        """A name of this step, or of one of its settings, inputs or choices, as the window says it."""
        if name == self.kind:
            return self.title
        field, spec = self.settings.listed().get(name), self.input(name)
        if field is not None and field.title:
            return field.title.lower()
        return (
            spec.title.lower()
            if spec is not None and spec is not self.further
            else option_words(name).lower()
        )

    @cached_property
    def file_settings(self) -> list[str]:
        """Names of the settings that are paths of files."""
        return [n for n, f in self.settings.listed().items() if extra(f, "control") == "file"]

    def _wrong(self, error: ValidationError) -> tuple[str, ...]:
        first = error.errors(include_url=False)[0]
        cause = first.get("ctx", {}).get("error")
        if isinstance(cause, AskedWronglyError):
            return cause.what, cause.do, cause.typed
        where = str(first["loc"][0]) if first["loc"] else "settings"
        if first["type"] == "missing" and len(first["loc"]) == 1:
            return f"`{self.kind}` needs `{where}`.", "Give it a value.", f"Give {where}=..."
        said = first["msg"].removeprefix("Value error, ").removeprefix("Input should be ")
        return f"`{where}`: {first['input']!r} is not possible.", f"It should be {said}."


def largest_grid(inputs: Inputs) -> int:
    """Cells of the largest grid among some values."""
    return max((kind_of(v).cells(v) for v in inputs.values()), default=0)


def optional(inputs: Inputs, name: str, kind: type[K]) -> K | None:
    """Give an input that may be left out, as the kind that it was declared to be."""
    return of_kind(inputs.get(name), kind)


def every(inputs: Inputs, kind: type[K]) -> dict[str, K]:
    """The inputs of one kind, by name."""
    return {n: v for n in inputs if (v := of_kind(inputs[n], kind)) is not None}


def plain(settings: Settings) -> dict[str, Any]:
    """Give settings as plain data, without those at their default."""
    return settings.model_dump(mode="json", exclude_defaults=True)
