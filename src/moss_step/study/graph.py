"""A study: steps that feed one another, and how they are drawn. Every change gives a new study; none is
altered.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Mapping
from functools import cached_property
from typing import Any, Literal, Self

from pydantic import BaseModel, ConfigDict, Field, model_validator

from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.telling import Telling
from moss_step.model.units import UNITS
from moss_step.steps.catalogue import step_kind
from moss_step.steps.declare import ResultSpec, StepKind, plain
from moss_step.study.pages import MOST_PAGES, Page

_FROZEN = ConfigDict(frozen=True, extra="forbid", allow_inf_nan=False)


MOST_NAME = 120
"""Most characters of a name that is made from other names, and most bytes of a file name made from one."""


def split(ref: str) -> tuple[str, str]:
    """The step's id and the name of a result that is written ``step`` or ``step.name``; the main one has an
    empty name.
    """
    step_id, _, name = ref.partition(".")
    return step_id, name


def step_of(ref: str) -> str:
    """The id of the step that gives a result."""
    return ref.partition(".")[0]


class Step(BaseModel):
    """One operation in a study: its kind, the results that feed it, and its settings as plain data.

    A result is written ``step``, or ``step.name`` for one beside the main one; ``names`` are those that a
    person gave to these.
    """

    model_config = _FROZEN
    id: str = Field(pattern=r"^[A-Za-z0-9_-]{1,80}$")
    kind: str
    inputs: Mapping[str, str] = Field(default_factory=dict)
    settings: Mapping[str, Any] = Field(default_factory=dict)
    name: str = ""
    names: Mapping[str, str] = Field(default_factory=dict)
    group: str = ""
    """Id of the step that answers the question which this one helps to answer; empty for a step by itself."""

    @property
    def sources(self) -> list[str]:
        """Ids of the steps that feed it, in the order of its inputs."""
        return [step_of(ref) for ref in self.inputs.values()]

    @property
    def refs(self) -> list[str]:
        """All results that it gives, the main one first."""
        return [f"{self.id}.{name}" if name else self.id for name in self.declared.results]

    @property
    def declared(self) -> StepKind:
        """The declaration of this step's kind."""
        return step_kind(self.kind)

    @property
    def files(self) -> list[str]:
        """The files that it reads, as its settings name them."""
        return [str(self.settings[n]) for n in self.declared.file_settings if n in self.settings]


class KeyRow(BaseModel):
    """How one result is drawn on the plan; ``cut`` is the percent of cells left out at each end of the ramp.

    Shapes may be graded by a ``column``, with ``count`` classes by a ``method`` or by typed ``breaks``, and
    labelled by another column; points have a ``mark`` of a ``size`` in pixels. Cells of the value
    ``clear`` are not drawn, and a ramp may have its middle colour at ``centre``, or be drawn in as many
    ``steps``. Lines have a ``width`` in pixels. Rows of shapes, and classes, may be ``hidden``; rows may have
    a ``paint`` of their own.
    """

    model_config = _FROZEN
    step: str
    shown: bool = True
    opacity: float = Field(1.0, ge=0, le=1)
    ramp: str = ""
    reverse: bool = False
    span: Literal["range", "cut", "typed"] = "range"
    cut: float = Field(2.0, ge=0, lt=50)
    low: float | None = None
    high: float | None = None
    column: str = ""
    method: Literal["equal_interval", "equal_count", "natural", "deviation", "unique", "typed"] = "natural"
    count: int = Field(5, ge=2, le=24)
    outline: Literal["own", "fill", "none"] = "own"
    labels: str = ""
    clear: float | None = None
    centre: float | None = None
    steps: int = Field(0, ge=0, le=24)
    width: float | None = Field(None, ge=0.5, le=12)
    hidden: tuple[int, ...] = ()
    paint: tuple[tuple[int, str], ...] = ()
    breaks: tuple[float, ...] = ()
    mark: Literal["round", "square", "triangle"] = "round"
    size: float = Field(10.0, ge=2, le=60)

    @model_validator(mode="before")
    @classmethod
    def _in_new_words(cls, given: Any) -> Any:
        """Rows of older studies say ``clear_zero``."""
        if isinstance(given, dict) and "clear_zero" in given:
            left = {n: v for n, v in given.items() if n != "clear_zero"}
            return left | ({"clear": 0.0} if given["clear_zero"] is True else {})
        return given


class Shading(BaseModel):
    """Relief shading under everything: light, exaggeration and strength; a way of drawing, never an input."""

    model_config = _FROZEN
    on: bool = True
    ground: str = ""
    azimuth: float = Field(315.0, ge=0, le=360)
    altitude: float = Field(45.0, ge=0, le=90)
    z_factor: float = Field(1.0, gt=0, le=1000)
    strength: float = Field(0.75, ge=0, le=1)
    arrows: bool = False


class Study(BaseModel):
    """One piece of work: steps in the order they were made, the Key from top to bottom, shading, pinned
    readings, and the units that lengths and areas are told in; empty tells lengths as they were measured, and
    areas by their size.
    """

    model_config = _FROZEN
    name: str = "Untitled study"
    steps: tuple[Step, ...] = ()
    key: tuple[KeyRow, ...] = ()
    shading: Shading = Shading()
    pins: tuple[tuple[float, float], ...] = ()
    length_unit: Literal["", "metre", "foot", "us_survey_foot"] = ""
    area_unit: Literal["", "m2", "ha", "km2", "acre"] = ""
    pages: tuple[Page, ...] = Field((), max_length=MOST_PAGES)

    @model_validator(mode="after")
    def _has_one_page_of_a_name(self) -> Self:
        """Pages are asked for by their names."""
        names = [p.name for p in self.pages]
        if len(set(names)) < len(names):
            raise ValueError("two pages have one name")
        return self

    def model_copy(self, *, update: Mapping[str, Any] | None = None, deep: bool = False) -> Self:
        """Copy with changes; what was worked out of the old steps does not go along."""
        result = super().model_copy(update=update, deep=deep)
        for worked_out in result.__dict__.keys() - type(self).model_fields.keys() - {"_labels"}:
            del result.__dict__[worked_out]
        return result

    @cached_property
    def _labels(self) -> dict[str, tuple[Step, dict[str, str], str]]:
        """Names made of steps, and what they were made of: of thousands a change leaves most alone."""
        return {}

    @property
    def telling(self) -> Telling:
        """How lengths and areas are told."""
        return Telling(UNITS.get(self.length_unit), UNITS.get(self.area_unit))

    def step(self, ref: str) -> Step:
        """Give a step by its id, or by one of its results."""
        try:
            return self._by_id[step_of(ref)]
        except KeyError:
            raise AskedWronglyError(f"The study has no step '{step_of(ref)}'.") from None

    def has(self, ref: str) -> bool:
        """Whether there is a step of this id, or a result of this name."""
        step_id, name = split(ref)
        return step_id in self._by_id and (not name or name in self._by_id[step_id].declared.results)

    def result(self, ref: str) -> ResultSpec:
        """Give the declaration of a result.

        Raises AskedWronglyError when there is no such step, or it gives no such result.
        """
        step = self.step(ref)
        return step.declared.result_by(split(ref)[1], step.settings)

    def refs(self, asked: bool = True) -> list[str]:
        """All results of all steps; without those that are worked out only when they are ``asked`` for,
        unless something here does.
        """
        return list(self._refs if asked else self._usual_refs)

    @cached_property
    def _refs(self) -> tuple[str, ...]:
        return tuple(ref for step in self.in_order() for ref in step.refs)

    @cached_property
    def _usual_refs(self) -> tuple[str, ...]:
        named = {*(k.step for k in self.key), *(ref for step in self.steps for ref in step.inputs.values())}
        return tuple(ref for ref in self._refs if ref in named or not self.result(ref).asked)

    def giving(self, kind: str) -> list[str]:
        """Results that are declared to be of a kind, in the order of the steps."""
        return self._by_kind.get(kind, [])

    @cached_property
    def _by_kind(self) -> dict[str, list[str]]:
        result: dict[str, list[str]] = {}
        for step in self.steps:
            for name in step.declared.results:
                spec = step.declared.result_by(name, step.settings)
                result.setdefault(spec.gives, []).append(f"{step.id}.{name}" if name else step.id)
        return result

    @cached_property
    def groups(self) -> dict[str, list[str]]:
        """Ids of the steps of each group, by the id of the one that gives its answer, where that is there."""
        result: dict[str, list[str]] = {}
        for step in self.steps:
            if step.group:
                result.setdefault(step.group, []).append(step.id)
        return {last: ids for last, ids in result.items() if self.has(last) and len(ids) > 1}

    @cached_property
    def _by_id(self) -> dict[str, Step]:
        return {s.id: s for s in reversed(self.steps)}

    @cached_property
    def _names(self) -> dict[str, str]:
        """Names of all results, each made after those that it is made from."""
        names: dict[str, str] = {}
        for step in self.in_order():
            fed = {n: self._named(ref, names) for n, ref in step.inputs.items()}
            known = self._labels.get(step.id)
            if known is None or known[0] is not step or known[1] != fed:
                known = self._labels[step.id] = (step, fed, _label(step, fed)[:MOST_NAME])
            names[step.id] = known[2]
        return names

    def name_of(self, ref: str) -> str:
        """Name of a result: given by the person, or made from what the step did."""
        return self._named(ref, self._names)

    def _named(self, ref: str, names: Mapping[str, str]) -> str:
        step_id, name = split(ref)
        step = self.step(step_id)
        main = step.name or names[step_id]
        return step.names.get(name) or step.declared.name_of(name, main)[:MOST_NAME]

    @property
    def source_files(self) -> list[str]:
        """The files that steps read, as their settings name them."""
        return [file for step in self.steps for file in step.files]

    @property
    def pictures(self) -> list[str]:
        """The files of pictures on its pages."""
        return [file for page in self.pages for file in page.pictures]

    def fresh_id(self, kind: str) -> str:
        """Give an id that no step has yet."""
        taken = {s.id for s in self.steps}
        return next(i for i in (f"{kind}-{n}" for n in range(1, len(taken) + 2)) if i not in taken)

    def adding(self, step: Step) -> Study:
        """Give the study with one more step."""
        return self.model_copy(update={"steps": (*self.steps, step)})

    def adding_plan(self, step: Step) -> tuple[Study, str]:
        """Give the study with the steps that a question is kept as, and the id of the last."""
        declared = step.declared
        if declared.plan is None:
            return self.adding(step), step.id
        study, refs = self, dict(step.inputs)
        planned = declared.plan(declared.checked(step.settings), step.inputs)
        added = []
        for one in planned:
            settings = plain(step_kind(one.kind).checked(one.settings))
            fed = {name: refs.get(ref) or _beside(refs, ref) for name, ref in one.inputs.items()}
            fresh = study.fresh_id(one.kind)
            study = study.adding(Step(id=fresh, kind=one.kind, inputs=fed, settings=settings, name=one.title))
            refs[one.name] = fresh
            added.append(fresh)
        last = added[-1]
        for step_id in added if len(added) > 1 else ():
            study = study.changing(step_id, lambda s: s.model_copy(update={"group": last}))
        return study, last

    def changing(self, step_id: str, change: Callable[[Step], Step]) -> Study:
        """Give the study with one step changed."""
        return self.model_copy(
            update={"steps": tuple(change(s) if s.id == step_id else s for s in self.steps)}
        )

    def renaming(self, ref: str, given: str) -> Study:
        """Give the study with a name for a result; an empty one makes it name itself."""
        step_id, name = split(ref)

        def change(step: Step) -> Step:
            names = {n: text for n, text in {**step.names, name: given}.items() if n and text}
            return step.model_copy(update={"names": names} if name else {"name": given})

        return self.changing(step_id, change)

    def removing(self, step_id: str) -> Study:
        """Give the study without a step and all that depends on it."""
        gone = {step_id, *self.followers(step_id)}
        steps = tuple(s for s in self.steps if s.id not in gone)
        key = tuple(k for k in self.key if step_of(k.step) not in gone)
        shading = (
            self.shading.model_copy(update={"ground": ""})
            if step_of(self.shading.ground) in gone
            else self.shading
        )
        return self.model_copy(update={"steps": steps, "key": key, "shading": shading})

    def duplicating(self, step_id: str) -> tuple[Study, str]:
        """Give the study with a copy of a step, and the copy's id."""
        step = self.step(step_id)
        fresh = self.fresh_id(step.kind)
        name = f"{self.name_of(step_id)}, copy"
        return self.adding(step.model_copy(update={"id": fresh, "name": name})), fresh

    def followers(self, step_id: str) -> list[str]:
        """Ids of the steps that depend on a step, directly or not, in order."""
        reached = {step_id}
        for step in self.in_order():
            if reached.intersection(step.sources):
                reached.add(step.id)
        return [s.id for s in self.steps if s.id in reached and s.id != step_id]

    def bounded_by(self, step_id: str) -> list[str]:
        """Ids of the steps whose bounds were typed in the unit of a step's result."""
        bounds = {"rules", "at_least", "above", "at_most", "below"}
        return [s.id for s in self.steps if step_id in s.sources and bounds & s.settings.keys()]

    def needs(self, targets: Iterable[str]) -> list[Step]:
        """Give the steps that results depend on and those that give them, each after what feeds it."""
        wanted = {step_of(ref) for ref in targets}
        for step in reversed(self.in_order()):
            if step.id in wanted:
                wanted.update(step.sources)
        return [s for s in self.in_order() if s.id in wanted]

    def in_order(self) -> list[Step]:
        """Give all steps, each after what feeds it.

        Raises MossError when steps feed each other in a circle or an input is missing.
        """
        return list(self._ordered)

    @cached_property
    def _ordered(self) -> tuple[Step, ...]:
        """Steps by how far they lie from those that need none, after Kahn 1962, in the order they were
        made.
        """
        followers: dict[str, list[Step]] = {s.id: [] for s in self.steps}
        waiting: dict[str, int] = {}
        for step in self.steps:
            sources = set(step.sources)
            waiting[step.id] = len(sources)
            for source in sources & followers.keys():
                followers[source].append(step)
        place = {s.id: n for n, s in enumerate(self.steps)}
        ready, ordered = [s for s in self.steps if not s.inputs], list[Step]()
        while ready:
            ordered += ready
            following = [f for s in ready for f in followers[s.id]]
            for step in following:
                waiting[step.id] -= 1
            ready = sorted(
                {s.id: s for s in following if waiting[s.id] == 0}.values(), key=lambda s: place[s.id]
            )
        if len(ordered) < len(self.steps):
            stuck = next(s for s in self.steps if s not in ordered)
            raise MossError(f"The step '{stuck.id}' depends on itself or on a step that is not there.")
        return tuple(ordered)

    def page(self, name: str = "") -> Page:
        """Give a page by its name, or the first one.

        Raises AskedWronglyError when there is none.
        """
        if not self.pages:
            raise AskedWronglyError("The study has no page.", "Begin one on the Sheet bench.")
        found = next((p for p in self.pages if p.name == name), None if name else self.pages[0])
        if found is None:
            raise AskedWronglyError(
                f"The study has no page '{name}'.", f"It has: {', '.join(p.name for p in self.pages)}."
            )
        return found

    def with_page(self, page: Page, instead: str = "") -> Study:
        """Give the study with a page set: in place of the one of a name, or after the others."""
        old = instead or page.name
        if any(p.name == old for p in self.pages):
            return self.model_copy(update={"pages": tuple(page if p.name == old else p for p in self.pages)})
        return self.model_copy(update={"pages": (*self.pages, page)})

    def without_page(self, name: str) -> Study:
        """Give the study without a page."""
        return self.model_copy(update={"pages": tuple(p for p in self.pages if p.name != name)})

    def fresh_page_name(self, wanted: str) -> str:
        """Give a page name that no page has yet."""
        taken = {p.name for p in self.pages}
        if wanted not in taken:
            return wanted
        return next(n for n in (f"{wanted} {k}" for k in range(2, len(taken) + 3)) if n not in taken)

    def with_key_row(self, row: KeyRow) -> Study:
        """Give the study with a row of the Key set, on top when it is new."""
        if any(k.step == row.step for k in self.key):
            return self.model_copy(update={"key": tuple(row if k.step == row.step else k for k in self.key)})
        return self.model_copy(update={"key": (row, *self.key)})

    def first_row(self, ref: str) -> KeyRow:
        """Give the row of the Key that a result begins with."""
        step_id, name = split(ref)
        step = self.step(step_id)
        draws = step.declared.draws if not name else None
        try:
            by_settings = {} if draws is None else draws(step.declared.checked(step.settings))
        except MossError:  # without its settings it is drawn as any other; its card says what is missing
            by_settings = {}
        return KeyRow(step=ref, **{**self.result(ref).look, **by_settings})

    def key_row(self, ref: str) -> KeyRow | None:
        """Give the row of the Key that draws a result."""
        return next((k for k in self.key if k.step == ref), None)


def _beside(refs: Mapping[str, str], ref: str) -> str:
    """A result beside the main one of an earlier step of a plan."""
    name, _, result = ref.partition(".")
    return f"{refs[name]}.{result}"


def _label(step: Step, fed: Mapping[str, str]) -> str:
    """Name of a step's main result: given by the person, or made of what the step did."""
    try:
        return step.name or step.declared.label(step.declared.checked(step.settings), fed)
    except (
        MossError,
        KeyError,
    ):  # with settings or inputs missing there is nothing to name it by; its card says which
        return step.declared.title


def file_name(text: str) -> str:
    """Make a file name of a result's name: of letters, digits and dashes, and short enough for any file
    system.
    """
    clean = re.sub(r"[^\w.-]+", "_", text.strip()).strip("_.").lower()
    return clean.encode("utf-8", "ignore")[:MOST_NAME].decode("utf-8", "ignore").strip("_.") or "result"
