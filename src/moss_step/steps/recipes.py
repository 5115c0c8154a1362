"""Questions that take several steps, asked at once: each is kept as the ordinary linked steps that answer
it.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from typing import Annotated, Any, Literal

from pydantic import BaseModel, BeforeValidator, ConfigDict, Field

from moss_step.model.errors import AskedWronglyError
from moss_step.model.outcome import Outcome, Value
from moss_step.model.progress import Progress
from moss_step.steps.catalogue import step_kind
from moss_step.steps.declare import Inputs, InputSpec, Planned, Settings, StepKind, setting
from moss_step.steps.fields import PointsField
from moss_step.steps.shape import DEM

Measure = Literal["value", "slope_percent", "slope_degrees", "facing"]
Side = Literal["above", "at_least", "below", "at_most", "between"]
_SIGNS: dict[str, Side] = {">": "above", ">=": "at_least", "<": "below", "<=": "at_most"}
_WRITTEN = {side: sign for sign, side in _SIGNS.items()}
_CRITERION = re.compile(
    r"^(?:(slope_percent|slope_degrees|facing)\s*\(\s*([A-Za-z_]\w*)\s*\)|([A-Za-z_]\w*))\s*"
    r"(?:(>=|<=|>|<)\s*(-?[\d.]+(?:[eE][+-]?\d+)?)|in\s+(-?[\d.]+)\s*\.\.\s*(-?[\d.]+))"
    r"(?:\s*\*\s*([\d.]+))?$"
)
_HOW = "slope_percent(dem) > 30; dem >= 450; facing(dem) in 45..135; wet < 2 * 0.5"


class Criterion(BaseModel):
    """One criterion: a surface, or slope or bearing of a ground, beyond a bound or between two; and its
    weight.
    """

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)
    of: str = Field(pattern=r"^[A-Za-z_]\w*$")
    measure: Measure = "value"
    side: Side = "above"
    bound: float = Field(0.0, ge=-1e15, le=1e15)
    upper: float = Field(0.0, ge=-1e15, le=1e15)
    weight: float = Field(1.0, gt=0, le=1e6)

    @property
    def name(self) -> str:
        """What it is called among the maps that are combined."""
        what = {"value": self.of, "facing": f"facing_of_{self.of}"}.get(self.measure, f"slope_of_{self.of}")
        return f"{what}_{self.side}"


def named(criteria: tuple[Criterion, ...]) -> dict[str, Criterion]:
    """Criteria by their names; of several that share one the later ones are numbered."""
    result: dict[str, Criterion] = {}
    for one in criteria:
        number = sum(name.rpartition("_")[0] == one.name or name == one.name for name in result) + 1
        result[one.name if number == 1 else f"{one.name}_{number}"] = one
    return result


def _criteria(value: Any) -> Any:
    """Criteria from text such as ``slope_percent(dem) > 30; dem >= 450``."""
    if not isinstance(value, str):
        return value
    result = []
    for part in filter(None, (p.strip() for p in value.split(";"))):
        read = _CRITERION.match(part)
        if read is None:
            raise ValueError(f"criteria such as {_HOW}, and '{part[:60]}' is none")
        measure, inside, plain, sign, bound, low, high, weight = read.groups()
        result.append(
            {
                "of": inside or plain,
                "measure": measure or "value",
                "side": _SIGNS[sign] if sign else "between",
                "bound": bound or low,
                "upper": high or 0.0,
                "weight": weight or 1.0,
            }
        )
    return result


CriteriaField = Annotated[tuple[Criterion, ...], BeforeValidator(_criteria)]


def _criteria_setting() -> Any:
    return setting(
        ...,
        "Criteria",
        f"Each over a bound, under one, or between two. [[Such as {_HOW}.]]",
        control="criteria",
        min_length=1,
        max_length=7,
    )


_FURTHER = InputSpec("surfaces", "surface", "Surfaces", "NAME=PATH for each surface that a criterion names.")


def planned_criteria(criteria: Mapping[str, Criterion]) -> list[Planned]:
    """The steps that tell yes from no for each criterion by its name, and what they are derived from."""
    steps: dict[str, Planned] = {}
    for name, one in criteria.items():
        source = one.of
        if one.measure in ("slope_percent", "slope_degrees"):
            unit = one.measure.removeprefix("slope_")
            source = f"slope_{unit}_of_{one.of}"
            steps.setdefault(source, Planned(source, "slope", {"dem": one.of}, {"unit": unit}))
        if one.measure == "facing":
            aspect = f"aspect_of_{one.of}"
            steps.setdefault(aspect, Planned(aspect, "aspect", {"dem": one.of}))
            source = f"away_from_{name}"
            width = (one.upper - one.bound) % 360.0 or 360.0
            middle = (one.bound + width / 2.0) % 360.0
            text = f"away(aspect, {middle:g}) <= {width / 2.0:g}"
            steps[source] = Planned(source, "formula", {"aspect": aspect}, {"expression": text})
            steps[name] = Planned(name, "threshold", {"surface": source}, {"at_least": 1.0})
            continue
        bounds: dict[str, float] = (
            {"at_least": one.bound, "at_most": one.upper} if one.side == "between" else {one.side: one.bound}
        )
        steps[name] = Planned(name, "threshold", {"surface": source}, bounds)
    return list(steps.values())


def run_plan(
    plan: Callable[[Any, Mapping[str, str]], tuple[Planned, ...]],
) -> Callable[[Any, Inputs, Progress], Outcome]:
    """A run that works the steps of a plan out one after another, and gives the last one's outcome."""

    def run(settings: Any, inputs: Inputs, progress: Progress) -> Outcome:
        values: dict[str, Value] = dict(inputs)
        steps = plan(settings, {name: name for name in inputs})
        outcome, warnings = None, list[str]()
        for k, step in enumerate(steps):
            kind = step_kind(step.kind)
            missing = [ref for ref in step.inputs.values() if ref not in values]
            if missing:
                raise AskedWronglyError(f"There is no surface '{missing[0]}'.", f"Give {missing[0]}=PATH.")
            part = progress.part(k / len(steps), (k + 1) / len(steps))
            given = {name: values[ref] for name, ref in step.inputs.items()}
            outcome = kind.run(kind.checked(step.settings), given, part)
            values[step.name] = outcome.value
            warnings += outcome.warnings
        if outcome is None:
            raise AskedWronglyError("There is nothing to do.", "Give at least one criterion.")
        return Outcome(
            outcome.value, outcome.figure, outcome.findings, tuple(dict.fromkeys(warnings)), outcome.beside
        )

    return run


# --- hazard from criteria


class HazardSettings(Settings):
    """Settings of hazard."""

    criteria: CriteriaField = _criteria_setting()
    rule: Literal["sum", "all", "any", "weighted"] = setting(
        "sum", "Together", "`sum`: how many hold; `all`, `any`: yes or no; `weighted`: by weights."
    )


def _hazard_plan(settings: HazardSettings, names: Mapping[str, str]) -> tuple[Planned, ...]:
    asked = named(settings.criteria)
    steps = planned_criteria(asked)
    maps = {name: name for name in asked}
    weights = [c.weight for c in settings.criteria]
    if "inside" in names:
        like = settings.criteria[0].of
        steps.append(
            Planned("inside_areas", "rasterize", {"shapes": "inside", "like": like}, {"inside": True})
        )
        maps["inside"] = "inside_areas"
        weights.append(1.0)
    if len(maps) < 2:
        return tuple(steps)
    together: dict[str, Any] = {"rule": settings.rule}
    if settings.rule == "weighted":
        together["weights"] = ",".join(f"{w:g}" for w in weights)
    return (*steps, Planned("hazard", "combine", maps, together, "Hazard"))


hazard = StepKind(
    kind="hazard",
    bench="classes",
    group="Several together",
    title="Hazard from criteria",
    question="Where do bounds on slope, height, bearing and areas meet?",
    help=(
        "Rows of criteria, with areas as one more, laid over one another: how many hold, all, any, or "
        "weighted. Kept as its linked steps."
    ),
    words=("hazard", "suitability", "multi-criteria", "overlay", "susceptibility", "constraints", "mcda"),
    inputs=(InputSpec("inside", "shapes", "And inside", "Areas that count as one more criterion.", True),),
    settings=HazardSettings,
    gives="classes",
    run=run_plan(_hazard_plan),
    plan=_hazard_plan,
    memory=60,
    label=lambda s, names: "Hazard",
    further=_FURTHER,
)


# --- how much of this inside that


class InsideSettings(Settings):
    """Settings of amount_inside."""

    criteria: CriteriaField = _criteria_setting()
    measure: Literal["area", "share"] = setting("area", "Measure", "`area` in m², or `share` in percent.")


def _inside_plan(settings: InsideSettings, names: Mapping[str, str]) -> tuple[Planned, ...]:
    asked = named(settings.criteria)
    steps = planned_criteria(asked)
    maps = {name: name for name in asked}
    classes = next(iter(asked))
    if len(maps) > 1:
        classes = "together"
        steps.append(Planned(classes, "combine", maps, {"rule": "all"}, "All criteria"))
    fed = {"zones": "areas", "classes": classes}
    if "mean_of" in names:
        fed["surface"] = "mean_of"
    return (*steps, Planned("amount", "zone_classes", fed, {"measure": settings.measure}))


amount_inside = StepKind(
    kind="amount_inside",
    bench="classes",
    group="Values by area",
    title="How much inside",
    question="How much ground that meets criteria lies inside areas?",
    help=(
        "Area, or share, of the ground where all criteria hold in each of some areas, with the mean of a "
        "surface there. Kept as its linked steps."
    ),
    words=("area of criteria", "tabulate", "within catchment", "overlay", "east-facing", "summary"),
    inputs=(
        InputSpec("areas", "shapes", "Inside", "The areas, such as catchments."),
        InputSpec("mean_of", "surface", "Mean of", "A surface whose mean is told there.", True),
    ),
    settings=InsideSettings,
    gives="shapes",
    run=run_plan(_inside_plan),
    plan=_inside_plan,
    memory=40,
    label=lambda s, names: f"Criteria inside {names['areas']}",
    further=_FURTHER,
)


# --- values per tile


class TileSettings(Settings):
    """Settings of tile_values."""

    statistic: Literal["mean", "max", "min", "median", "range", "std", "sum", "count"] = setting(
        "max", "Statistic", "What is told of the values in each tile."
    )
    shape: Literal["hexagon", "square", "triangle"] = setting("hexagon", "Tiles", "Shape of the tiles.")
    spacing: float = setting(
        100.0, "Spacing", "Between the centres of hexagons and squares; side of a triangle.", unit="m", gt=0
    )


def _tile_plan(settings: TileSettings, names: Mapping[str, str]) -> tuple[Planned, ...]:
    fed = {"extent": "surface"} | ({"keep": "keep"} if "keep" in names else {})
    laid = {"shape": settings.shape, "spacing": settings.spacing}
    return (
        Planned("tiles", "tessellate", fed, laid),
        Planned(
            "values",
            "zone_statistics",
            {"zones": "tiles", "surface": "surface"},
            {"statistics": (settings.statistic,)},
        ),
    )


tile_values = StepKind(
    kind="tile_values",
    bench="classes",
    group="Values by area",
    title="Values per tile",
    question="What are the values in even tiles over the ground?",
    help="Hexagons, squares or triangles over a surface, each with a statistic of it. Kept as its two steps.",
    words=("hexagons", "hexbin", "fishnet", "highest per hexagon", "zonal", "grid summary"),
    inputs=(
        InputSpec("surface", "surface", "Surface", "The values."),
        InputSpec("keep", "shapes", "Only over", "Areas that tiles must meet.", True),
    ),
    settings=TileSettings,
    gives="shapes",
    run=run_plan(_tile_plan),
    plan=_tile_plan,
    memory=30,
    label=lambda s, names: f"{s.statistic.capitalize()} of {names['surface']} by {s.shape}",
    draws=lambda s: {"column": s.statistic, "outline": "fill", "method": "natural", "count": 5},
)


# --- path to dam to catchment


class DamSettings(Settings):
    """Settings of dam_catchment."""

    start: PointsField = setting(
        ..., "Start", "Click on the plan. [[As x,y.]] The water runs down from here.", control="points"
    )
    cut: PointsField | None = setting(
        None, "Dam at", "The path ends at the point nearest to this place.", control="points"
    )


def _dam_plan(settings: DamSettings, names: Mapping[str, str]) -> tuple[Planned, ...]:
    set_ = {"start": settings.start} | ({"cut": settings.cut} if settings.cut else {})
    return (
        Planned("path", "flow_path", {"dem": "dem"}, set_),
        Planned("catchment", "catchment", {"dem": "dem", "outlets": "path"}),
    )


dam_catchment = StepKind(
    kind="dam_catchment",
    bench="water",
    group="What drains where",
    title="Dam and catchment",
    question="What drains to a dam on the way of the water?",
    help=(
        "The way of the water from a place, cut where a dam might stand, and all that drains to it there. "
        "Kept as its two steps."
    ),
    words=("dam", "barrage", "reservoir", "weir", "watershed", "pour point", "longest path"),
    inputs=(DEM,),
    settings=DamSettings,
    gives="shapes",
    run=run_plan(_dam_plan),
    plan=_dam_plan,
    memory=60,
    label=lambda s, names: f"Catchment of a dam in {names['dem']}",
)
