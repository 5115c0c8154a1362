"""Classes and Surface: formulas, thresholds, combinations, and sums of surfaces."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Annotated, Any, Literal

from pydantic import BeforeValidator

from moss_step.model.class_map import ClassMap
from moss_step.model.errors import AskedWronglyError
from moss_step.model.findings import Finding
from moss_step.model.outcome import Outcome
from moss_step.model.progress import Progress
from moss_step.model.surface import Surface
from moss_step.model.typed import as_kind
from moss_step.model.units import NONE, UNITS
from moss_step.model.words import with_symbol
from moss_step.science.algebra import arithmetic, criteria
from moss_step.science.algebra.formula import FUNCTIONS, evaluate, is_question, names_in, one_frame
from moss_step.science.regrid import carry_over
from moss_step.steps.declare import Inputs, InputSpec, Settings, StepKind, every, optional, setting
from moss_step.steps.reach import CELL
from moss_step.steps.results import class_outcome, surface_outcome
from moss_step.steps.weights import WeightSettings, by_commas, with_weights

SURFACE = InputSpec("surface", "surface", "Surface", "The values to work on.")


def _surface(inputs: Inputs, name: str = "surface") -> Surface:
    return as_kind(inputs[name], Surface)


def _surfaces(inputs: Inputs) -> dict[str, Surface]:
    return every(inputs, Surface)


class FormulaSettings(Settings):
    """Settings of formula."""

    expression: str = setting(
        ...,
        "Formula",
        f"Names of surfaces with + - * / ** < <= > >= == != and or not, and {', '.join(FUNCTIONS)}.",
        control="formula",
    )


def _formula(settings: FormulaSettings, inputs: Inputs, progress: Progress) -> Outcome:
    surfaces = _surfaces(inputs)
    if not surfaces:
        raise AskedWronglyError(
            "`formula` needs at least one surface.",
            "Name one in the expression.",
            "Give NAME=PATH for each name in the expression.",
        )
    result = evaluate(settings.expression, surfaces, progress)
    bearings = any(s.cyclic for n, s in surfaces.items() if n in names_in(settings.expression))
    remarks = ("A flat aspect is -1: below every bearing.",) if bearings else ()
    if result.quantity != "yes_no":
        return surface_outcome(result, remarks)
    outcome = class_outcome(criteria.answered(result, settings.expression), result.valid_count, remarks)
    yes = next(f.value for f in outcome.findings if (f.of, f.name) == ("yes", "share"))
    return replace(outcome, figure=f"{yes:.1%} yes")


def _given_by(settings: Mapping[str, Any]) -> str:
    """A question gives a map of yes and no."""
    return "classes" if is_question(str(settings.get("expression", ""))) else "surface"


def _drawn(settings: FormulaSettings) -> dict[str, Any]:
    """Of yes and no the no is not drawn."""
    return {"hidden": (0,)} if is_question(settings.expression) else {}


formula = StepKind(
    kind="formula",
    example='expression="slope >= 30 and ground > 450" slope=slope.tif ground=ground.tif',
    bench="classes",
    group="Several together",
    title="Formula",
    question="What follows from several surfaces together?",
    help=(
        "Works an expression out over named surfaces. Units are carried; no-data stays no-data; nothing "
        "is run as code."
    ),
    formula="the expression, cell by cell",
    words=("calculator", "map algebra", "expression", "arithmetic", "conditional", "con", "where"),
    inputs=(),
    settings=FormulaSettings,
    gives="surface",
    run=_formula,
    gives_by=_given_by,
    draws=_drawn,
    staple=3,
    reach=CELL,
    memory=7,
    label=lambda s, names: s.expression if len(s.expression) <= 40 else f"{s.expression[:38]} …",
    further=InputSpec(
        "surfaces", "surface", "Surfaces", "NAME=PATH for each name in the expression.", optional=True
    ),
)


class ThresholdSettings(Settings):
    """Settings of threshold."""

    at_least: float | None = setting(None, "At least", "Yes from this value on, the value included.")
    above: float | None = setting(None, "Above", "Yes above this value, the value not included.", more=True)
    at_most: float | None = setting(None, "At most", "Yes up to this value, the value included.")
    below: float | None = setting(None, "Below", "Yes below this value, the value not included.", more=True)
    elsewhere: Literal["no", "no_data"] = setting(
        "no", "Elsewhere", "What the other cells become.", more=True
    )

    def text(self) -> str:
        """Say the condition."""
        parts = [
            (self.at_least, "at least"),
            (self.above, "above"),
            (self.at_most, "at most"),
            (self.below, "below"),
        ]
        return " and ".join(f"{word} {value:g}" for value, word in parts if value is not None)


def _threshold(settings: ThresholdSettings, inputs: Inputs, progress: Progress) -> Outcome:
    s, surface = settings, _surface(inputs)
    if not s.text():
        raise AskedWronglyError(
            "`threshold` needs a bound.", "Give `at_least`, `above`, `at_most` or `below`."
        )
    if (s.at_least is not None and s.above is not None) or (s.at_most is not None and s.below is not None):
        raise AskedWronglyError(
            "`threshold` has two bounds on one side.", "Give `at_least` or `above`, and `at_most` or `below`."
        )
    progress.at(0.1, "Comparing")
    low, high = (
        (s.at_least if s.at_least is not None else s.above),
        (s.at_most if s.at_most is not None else s.below),
    )
    result = criteria.threshold(
        surface,
        low,
        s.at_least is not None,
        high,
        s.at_most is not None,
        with_symbol(s.text(), surface.unit),
        s.elsewhere == "no",
    )
    return class_outcome(result, surface.valid_count)


threshold = StepKind(
    kind="threshold",
    example="surface=slope.tif at_least=30", bench="classes",
    group="Bounds and classes",
    title="Threshold", question="Where does a value pass a bound?",
    help="Yes where a value lies beyond a bound, no (or no data) elsewhere.",
    formula="1 where low ≤ v ≤ high (or < where the bound itself does not count), else 0",
    words=("binary", "yes no", "boolean", "greater than", "less than", "criterion", "cutoff", "limit"),
    inputs=(SURFACE,), settings=ThresholdSettings, gives="classes", run=_threshold,
    staple=2,
    reach=CELL,
    memory=5,
    label=lambda s, names: f"{names['surface']} {s.text()}",
)  # fmt: skip


class AmongSettings(Settings):
    """Settings of class_among."""

    among: Annotated[tuple[str, ...], BeforeValidator(by_commas)] = setting(
        ..., "Among", "Names or numbers of classes, with commas."
    )
    elsewhere: Literal["no", "no_data"] = setting(
        "no", "Without a class", "What cells without a class become."
    )


def _among(settings: AmongSettings, inputs: Inputs, progress: Progress) -> Outcome:
    progress.at(0.1, "Comparing")
    classes = as_kind(inputs["classes"], ClassMap)
    result = criteria.among(classes, settings.among, settings.elsewhere == "no")
    return class_outcome(result, result.valid_count)


class_among = StepKind(
    kind="class_among",
    example="classes=classes.tif among=2,3", bench="classes",
    group="Bounds and classes",
    title="Class among", question="Where is the class one of some?",
    help="Yes where a class map holds one of some classes, such as land covers; no elsewhere.",
    formula="1 where the class is one of the named, else 0",
    words=("land cover", "select classes", "reclassify", "is one of", "criterion", "in list"),
    inputs=(InputSpec("classes", "classes", "Class map", "The classes to look at."),),
    settings=AmongSettings, gives="classes", run=_among,
    reach=CELL,
    memory=11,
    label=lambda s, names: f"{names['classes']} among {', '.join(s.among)}",
)  # fmt: skip


class CombineSettings(WeightSettings):
    """Settings of combine."""

    rule: criteria.Rule = setting(
        "sum",
        "Rule",
        "`sum`: how many hold; `all`, `any`: yes or no; `worst`: the highest class; `which`: each "
        "combination by name; `weighted`: the weighted mean class.",
    )


def _combine(settings: CombineSettings, inputs: Inputs, progress: Progress) -> Outcome:
    progress.at(0.1, "Laying maps over one another")
    maps = {n.replace("_", " "): v for n, v in every(inputs, ClassMap).items()}
    result: tuple[Finding, ...] = ()
    warnings: tuple[str, ...] = ()
    if settings.rule == "weighted":
        shares, result, warnings = settings.shares(list(maps))
        output = criteria.weighted_classes(maps, shares)
    else:
        output = criteria.combine(maps, settings.rule)
    outcome = class_outcome(output, output.valid_count, warnings)
    return with_weights(outcome, result)


combine = StepKind(
    kind="combine",
    example="steep=classes.tif high=later_classes.tif rule=worst",
    bench="classes",
    group="Several together",
    title="Combine",
    question="Where do several criteria hold together?",
    help=(
        "Lays yes/no or class maps over one another: how many hold, all, any, the worst class, or each "
        "combination by name."
    ),
    formula="sum = Σ yes; all = min; any = max; worst = max class; which = Σ 2ᵏ × yesₖ; weights: ⌊Σ w c "
    "/ Σ w + ½⌋",
    words=("overlay", "criteria", "hazard", "suitability", "intersection", "multi-criteria", "and", "or"),
    inputs=(),
    settings=CombineSettings,
    gives="classes",
    run=_combine,
    reach=CELL,
    staple=4,
    memory=28,
    label=lambda s, names: f"{s.rule.capitalize()} of {', '.join(names.values())}",
    further=InputSpec(
        "maps", "classes", "Maps", "NAME=PATH for each criterion; the names appear in the result."
    ),
)


def _weigh(settings: WeightSettings, inputs: Inputs, progress: Progress) -> Outcome:
    surfaces = _surfaces(inputs)
    if len(surfaces) < 2:
        raise AskedWronglyError(
            "`weigh` needs two or more surfaces.", "Add some.", "Give them as a=one.tif b=two.tif."
        )
    if turned := [n for n, s in surfaces.items() if s.cyclic]:
        raise AskedWronglyError(
            f"'{turned[0]}' holds bearings, and they do not add up.",
            "Make a criterion of it first: away(aspect, 180) in a formula.",
        )
    frame = one_frame(surfaces)
    progress.at(0.1, "Weighing")
    shares, result, warnings = settings.shares(list(surfaces))
    values = criteria.weighted_sum({n: v.values for n, v in surfaces.items()}, shares)
    outcome = surface_outcome(Surface(values, frame, NONE, "value"), warnings)
    return with_weights(outcome, result)


weigh = StepKind(
    kind="weigh",
    example="slope=slope.tif ground=ground.tif weights=2,1",
    bench="classes",
    group="Several together",
    title="Weigh",
    question="How do criteria of different weight add up?",
    help="Weighted sum of surfaces, with weights given or derived from pairwise comparisons (Saaty 1980).",
    formula="Σ wᵢ vᵢ / Σ wᵢ; pairwise: w = principal eigenvector, consistency ratio = (λ − n) / ((n − 1) "
    "× random index)",
    words=("weighted overlay", "ahp", "analytic hierarchy", "suitability", "pairwise", "score", "weights"),
    inputs=(),
    settings=WeightSettings,
    gives="surface",
    run=_weigh,
    reach=CELL,
    memory=10,
    label=lambda s, names: f"Weighted sum of {', '.join(names.values())}",
    further=InputSpec(
        "surfaces", "surface", "Surfaces", "NAME=PATH for each criterion, in the order of the weights."
    ),
)


class DifferenceSettings(Settings):
    """Settings of difference."""

    measure: Literal["difference", "ratio", "change"] = setting(
        "difference",
        "Measure",
        "`difference`: first less second; `ratio`: first over second; `change`: percent from second to "
        "first.",
    )


def _difference(settings: DifferenceSettings, inputs: Inputs, progress: Progress) -> Outcome:
    progress.at(0.1, "Comparing surfaces")
    result, remarks = arithmetic.difference(
        _surface(inputs, "first"), _surface(inputs, "second"), settings.measure
    )
    return surface_outcome(result, tuple(remarks))


difference = StepKind(
    kind="difference",
    example="first=later.tif second=ground.tif",
    keeps="difference",
    bench="surface",
    group="Between surfaces",
    title="Difference",
    question="How do two surfaces differ?",
    help=(
        "First less second, their ratio, or the change in percent. Units are converted; the grids must "
        "lie cell on cell."
    ),
    formula="difference = a − b; ratio = a / b; change = 100 (a − b) / b percent",
    words=("subtract", "change", "before after", "dem of difference", "ratio", "compare", "minus"),
    inputs=(
        InputSpec("first", "surface", "First", "The surface to take from."),
        InputSpec("second", "surface", "Second", "The surface to take off."),
    ),
    settings=DifferenceSettings,
    gives="surface",
    run=_difference,
    reach=CELL,
    memory=12,
    label=lambda s, names: f"{s.measure.capitalize()} of {names['first']} and {names['second']}",
)


class ConvertSettings(Settings):
    """Settings of convert_units."""

    to: Literal[
        "metre", "centimetre", "millimetre", "kilometre", "foot", "us_survey_foot", "degree", "percent"
    ] = setting("metre", "Unit", "The unit to give the values in; degree and percent for slope.")
    exaggeration: float = setting(
        1.0, "Vertical exaggeration", "Heights are multiplied by this too; 1 leaves them.", gt=0, le=1000
    )


def _convert(settings: ConvertSettings, inputs: Inputs, progress: Progress) -> Outcome:
    progress.at(0.1, "Converting")
    result = arithmetic.converted(_surface(inputs), UNITS[settings.to])
    if settings.exaggeration == 1.0:
        return surface_outcome(result)
    return surface_outcome(
        arithmetic.exaggerated(result, settings.exaggeration),
        (f"Heights are exaggerated {settings.exaggeration:g} times: not for measuring.",),
    )


convert_units = StepKind(
    kind="convert_units",
    example="surface=ground.tif to=foot",
    bench="surface",
    group="Values",
    title="Convert units",
    question="In which unit do you need the values?",
    help="Gives values in another unit of the same kind; vertical exaggeration as a step of its own.",
    formula="v × (old unit in SI / new unit in SI); with an exaggeration v × exaggeration",
    words=("feet to metres", "units", "scale", "z factor", "exaggeration", "percent to degrees"),
    inputs=(SURFACE,),
    settings=ConvertSettings,
    gives="surface",
    run=_convert,
    reach=CELL,
    memory=15,
    label=lambda s, names: (
        f"{names['surface']}, in {s.to}" + (f", {s.exaggeration:g} times" if s.exaggeration != 1 else "")
    ),
)


class ResampleSettings(Settings):
    """Settings of resample."""

    cell: float | None = setting(
        None, "Cell size", "In the units of the reference system.", without_input="like", gt=0
    )
    resampling: Literal["nearest", "bilinear", "cubic", "average"] = setting(
        "bilinear", "Resampling", "`average` suits coarser cells."
    )


_TAKEN_FOR = "The grid to lie on states no reference system: it is taken for that of the surface."


def _resample(settings: ResampleSettings, inputs: Inputs, progress: Progress) -> Outcome:
    surface = _surface(inputs)
    if surface.frame.crs is None:
        raise AskedWronglyError(
            "The surface has no reference system.",
            "State it in Gather first.",
            "Open the file with open_grid crs=EPSG:… first.",
        )
    grid = optional(inputs, "like", Surface)
    if grid is None and settings.cell is None:
        raise AskedWronglyError(
            "`resample` needs a cell size.",
            "Type one, or choose a grid to lie on.",
            "Give cell= or like=FILE.",
        )
    frame = None if grid is None else grid.frame
    unstated = frame is not None and frame.crs is None
    crs = surface.frame.crs if frame is None or frame.crs is None else frame.crs
    outcome = surface_outcome(carry_over(surface, crs, settings.cell, settings.resampling, progress, frame))
    return replace(outcome, warnings=(*outcome.warnings, _TAKEN_FOR)) if unstated else outcome


resample = StepKind(
    kind="resample",
    example="surface=ground.tif cell=10",
    keeps="cells",
    bench="surface",
    group="Cells",
    title="Resample",
    question="Which cell size do you need?",
    help="Gives a surface another cell size in its reference system, or the very cells of another grid.",
    formula="v = Σ wᵢ zᵢ over the cells around the new centre: one for nearest, two by two for bilinear "
    "(w = (1 − |Δx|)(1 − |Δy|)), four by four for cubic",
    words=("cell size", "resolution", "coarsen", "aggregate", "align", "snap raster", "match grid"),
    inputs=(
        SURFACE,
        InputSpec(
            "like", "surface", "Cells of", "A grid that the result lies on, cell on cell.", optional=True
        ),
    ),
    settings=ResampleSettings,
    gives="surface",
    run=_resample,
    maps=True,
    memory=8,
    label=lambda s, names: f"{names['surface']}, cells of {names.get('like') or f'{s.cell or 0.0:g}'}",
)


class MergeSettings(Settings):
    """Merging has no settings."""


def _merge(settings: MergeSettings, inputs: Inputs, progress: Progress) -> Outcome:
    surfaces = _surfaces(inputs)
    if len(surfaces) < 2:
        raise AskedWronglyError(
            "`merge` needs two or more grids.", "Add some.", "Give them as a=one.tif b=two.tif."
        )
    result, remarks = arithmetic.merge(surfaces, progress)
    return surface_outcome(result, tuple(remarks))


merge = StepKind(
    kind="merge",
    example="west=ground.tif east=later.tif",
    bench="surface",
    group="Between surfaces",
    title="Merge",
    question="Which grids belong together?",
    help="Joins grids of one reference system and cell size; where they overlap the first one counts.",
    formula="v = the first of v₁, v₂, … that has a value",
    words=("mosaic", "tiles", "join", "stitch", "append"),
    inputs=(),
    settings=MergeSettings,
    gives="surface",
    run=_merge,
    maps=True,
    memory=11,
    label=lambda s, names: f"{', '.join(names.values())}, merged",
    further=InputSpec(
        "grids", "surface", "Grids", "NAME=PATH for each grid; the first counts where they overlap."
    ),
)
