"""Classes: putting a surface in classes by ranges or ready sets."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import Annotated, Any, Literal

from pydantic import BaseModel, BeforeValidator, ConfigDict, Field

from moss_step.formats.rules_csv import read_rules
from moss_step.model.errors import AskedWronglyError
from moss_step.model.findings import Finding
from moss_step.model.outcome import Outcome
from moss_step.model.progress import Progress
from moss_step.model.rules import Closed, Rule, RuleSet
from moss_step.model.surface import Surface
from moss_step.model.typed import as_kind
from moss_step.model.units import UNKNOWN
from moss_step.science.classes.breaks import variance_fit
from moss_step.science.classes.classify import classify as put_in_classes
from moss_step.science.classes.presets import PRESET_NAMES, PRESETS, preset
from moss_step.steps.declare import Inputs, InputSpec, Settings, StepKind, setting
from moss_step.steps.reach import cell_when
from moss_step.steps.results import class_outcome

COUNTED = ("equal_interval", "equal_count", "natural")
"""Ready sets that are made from the values, for a number of classes."""


class RuleRow(BaseModel):
    """One range as plain data; ``from`` and ``to`` of null are open ends."""

    model_config = ConfigDict(extra="forbid", frozen=True, populate_by_name=True)
    low: float | None = Field(None, alias="from")
    high: float | None = Field(None, alias="to")
    code: int = Field(alias="class")
    name: str
    color: str


def _rows_or_name(value: Any) -> Any:
    """A ready set's name stays a name; a CSV file is read into rows."""
    if not isinstance(value, str) or value in PRESETS:
        return value
    if not value.lower().endswith(".csv"):
        raise ValueError(f"a CSV file or one of {', '.join(PRESETS)}")
    return rows_of(read_rules(Path(value)).rules)


RulesField = Annotated[str | tuple[RuleRow, ...], BeforeValidator(_rows_or_name)]


class ClassifySettings(Settings):
    """Settings of classify."""

    rules: RulesField = setting(
        "equal_interval",
        "Ranges",
        "A CSV file with columns from,to,class,name,color, or a ready set: " + ", ".join(PRESETS) + ".",
        control="rules",
    )
    closed: Literal["upper", "lower"] = setting(
        "upper", "Included end", "`upper`: (a, b], the bound belongs to the class below it; `lower`: [a, b)."
    )
    count: int = setting(
        5,
        "Number of classes",
        "For equal interval, equal count and natural breaks.",
        when={"rules": COUNTED},
        ge=2,
        le=50,
    )

    def rule_set(self, surface: Surface) -> RuleSet:
        """Give the rules, made from the surface when a ready set is named."""
        if isinstance(self.rules, str):
            return preset(self.rules, surface, self.count, self.closed)
        return rule_set(self.rules, self.closed)


def rule_set(rows: Sequence[RuleRow], closed: Closed) -> RuleSet:
    """Build rules from plain rows."""
    return RuleSet(tuple(Rule(r.low, r.high, r.code, r.name, r.color) for r in rows), closed)


def rows_of(rules: Sequence[Rule]) -> list[dict[str, Any]]:
    """Give rules as plain rows."""
    return [{"low": r.low, "high": r.high, "code": r.code, "name": r.name, "color": r.color} for r in rules]


def _classify(settings: ClassifySettings, inputs: Inputs, progress: Progress) -> Outcome:
    surface = as_kind(inputs["surface"], Surface)
    if surface.valid_count == 0:
        raise AskedWronglyError("The surface has no values to put in classes.", "Choose another surface.")
    rules = settings.rule_set(surface)
    notes = list(rules.problems())
    if surface.unit == UNKNOWN and settings.rules in ("fao_slope", "aspect_8"):
        taken = "percent of slope" if settings.rules == "fao_slope" else "bearings"
        notes.append(f"The unit of the values is not stated: {taken} is taken.")
    outcome = class_outcome(put_in_classes(surface, rules, progress), surface.valid_count, tuple(notes))
    if settings.rules not in COUNTED:
        return outcome
    fit = Finding(
        "goodness_of_variance_fit",
        variance_fit(surface, [b for r in rules.rules for b in (r.low, r.high) if b is not None]),
    )
    return replace(outcome, findings=(*outcome.findings, fit))


classify = StepKind(
    kind="classify",
    example="surface=slope.tif rules=fao_slope",
    bench="classes",
    group="Bounds and classes",
    title="Classes",
    question="Which ground falls in which class?",
    help=(
        "Puts every cell in the class whose range holds its value, and counts cells, area and share of each."
    ),
    formula="class k where bₖ₋₁ < v ≤ bₖ, or bₖ₋₁ ≤ v < bₖ; natural: least Σ (v − class mean)²; equal "
    "count: as many cells in each; equal interval: (highest − lowest) / count",
    words=(
        "reclassify",
        "ranges",
        "breaks",
        "bins",
        "thresholds",
        "hazard",
        "zones",
        "quantile",
        "jenks",
        "area per class",
        *(n.lower() for n in PRESET_NAMES.values()),
    ),
    inputs=(InputSpec("surface", "surface", "Surface", "The values to put in classes."),),
    settings=ClassifySettings,
    gives="classes",
    run=_classify,
    staple=1,
    reach=cell_when(lambda s: s.rules not in COUNTED),
    maps=True,
    memory=2,
    label=lambda s, names: f"Classes of {names['surface']}",
    ranges=lambda s: None if isinstance(s.rules, str) else rule_set(s.rules, s.closed),
)
