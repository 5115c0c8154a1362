"""Questions that take several steps, asked at once: each is kept as the ordinary linked steps that answer
it.
"""

from __future__ import annotations

import itertools
import re
from collections.abc import Callable, Mapping
from typing import Annotated, Any, Literal

from pydantic import AfterValidator, BaseModel, BeforeValidator, ConfigDict, Field

from moss_step.model.errors import AskedWronglyError
from moss_step.model.outcome import Outcome, Value
from moss_step.model.progress import Progress
from moss_step.science.classes.presets import PRESETS, colors_between
from moss_step.steps.catalogue import step_kind
from moss_step.steps.classes import RulesField
from moss_step.steps.declare import MOST, Inputs, InputSpec, Planned, Settings, StepKind, setting
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
            given = {}
            for name, ref in step.inputs.items():
                if ref not in values:
                    raise AskedWronglyError(
                        f"There is no surface '{ref}'.", "Choose another.", f"Give {ref}=PATH."
                    )
                given[name] = values[ref]
            part = progress.part(k / len(steps), (k + 1) / len(steps))
            outcome = kind.run(kind.checked(step.settings), kind.taken(given), part)
            values[step.name] = outcome.value
            wanted = {ref for later in steps[k + 1 :] for ref in later.inputs.values()}
            values |= {
                f"{step.name}.{name}": work_out().value
                for name, work_out in outcome.beside.items()
                if f"{step.name}.{name}" in wanted
            }
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
    example='dem=ground.tif criteria="slope_percent(dem) > 30; dem > 450"',
    bench="classes",
    group="Several together",
    title="Hazard from criteria",
    question="Where do bounds on slope, height, bearing and areas meet?",
    help=(
        "Rows of criteria, with areas as one more, laid over one another: how many hold, all, any, or "
        "weighted. Kept as its linked steps."
    ),
    words=("hazard", "suitability", "multi-criteria", "overlay", "susceptibility", "constraints", "mcda"),
    inputs=(
        InputSpec(
            "inside", "shapes", "And inside", "Areas that count as one more criterion.", True, shapes="areas"
        ),
    ),
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
    at: PointsField | None = setting(
        None,
        "Or inside the catchment of",
        "Click on the plan. [[As x,y.]] All that drains there is the area.",
        control="points",
        without_input="areas",
    )
    measure: Literal["area", "share"] = setting(
        "area", "Measure", "`area` in m², or `share` in percent.", more=True
    )


def _inside_plan(settings: InsideSettings, names: Mapping[str, str]) -> tuple[Planned, ...]:
    asked = named(settings.criteria)
    steps = planned_criteria(asked)
    maps = {name: name for name in asked}
    classes = next(iter(asked))
    if len(maps) > 1:
        classes = "together"
        steps.append(Planned(classes, "combine", maps, {"rule": "all"}, "All criteria"))
    if "areas" not in names and not settings.at:
        raise AskedWronglyError(
            "`amount_inside` needs an area.",
            "Choose areas, or click where water drains to.",
            "Give areas=FILE or at=x,y.",
        )
    fed = {"zones": "areas", "classes": classes}
    if "areas" not in names:
        fed["zones"] = "catchment"
        ground = settings.criteria[0].of
        steps.append(Planned("catchment", "catchment", {"dem": ground}, {"at": settings.at}))
    slope = next((s.name for s in steps if s.kind == "slope"), "")
    if "mean_of" in names or slope:
        fed["surface"] = "mean_of" if "mean_of" in names else slope
    return (*steps, Planned("amount", "zone_classes", fed, {"measure": settings.measure}))


amount_inside = StepKind(
    kind="amount_inside",
    example='areas=areas.gpkg dem=ground.tif criteria="slope_degrees(dem) > 30"',
    bench="classes",
    group="Values by area",
    title="How much inside",
    question="How much of such ground lies inside?",
    help=(
        "Area, or share, of the ground where all criteria hold in each of some areas, with the mean of a "
        "surface there. Kept as its linked steps."
    ),
    words=("area of criteria", "tabulate", "within catchment", "overlay", "east-facing", "summary"),
    inputs=(
        InputSpec("areas", "shapes", "Inside", "The areas, such as catchments.", True, shapes="areas"),
        InputSpec(
            "mean_of",
            "surface",
            "Mean of",
            "Whose mean is told there; of slope when left out.",
            True,
            more=True,
        ),
    ),
    settings=InsideSettings,
    gives="shapes",
    run=run_plan(_inside_plan),
    plan=_inside_plan,
    memory=40,
    label=lambda s, names: f"Criteria inside {names.get('areas', 'a catchment')}",
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
    example="surface=ground.tif statistic=max spacing=100",
    bench="classes",
    group="Values by area",
    title="Values per tile",
    question="What are the values in even tiles over the ground?",
    help="Hexagons, squares or triangles over a surface, each with a statistic of it. Kept as its two steps.",
    words=("hexagons", "hexbin", "fishnet", "highest per hexagon", "zonal", "grid summary"),
    inputs=(
        InputSpec("surface", "surface", "Surface", "The values."),
        InputSpec("keep", "shapes", "Only over", "Areas that tiles must meet.", True, shapes="areas"),
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

    dam: PointsField = setting(
        ..., "Dam at", "Click on the plan. [[As x,y.]] Where a dam might stand.", control="points"
    )
    start: PointsField | None = setting(
        None,
        "Way begins at",
        "The way of the water from here, cut at the dam; the longest way that reaches it when left out.",
        control="points",
        more=True,
    )


def _dam_plan(settings: DamSettings, names: Mapping[str, str]) -> tuple[Planned, ...]:
    way: dict[str, Any] = {"start": settings.dam, "side": "up"}
    if settings.start:
        way = {"start": settings.start, "cut": settings.dam}
    return (
        Planned("path", "flow_path", {"dem": "dem"}, way),
        Planned("catchment", "catchment", {"dem": "dem", "outlets": "path.end"}),
    )


dam_catchment = StepKind(
    kind="dam_catchment",
    example="dam=412900,5870700",
    bench="water",
    group="What drains where",
    title="Dam and catchment",
    question="What drains to a dam on the way of the water?",
    help=(
        "The longest way of the water that reaches a dam, or the way from a place cut there, and all that "
        "drains to it. Kept as its two steps."
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


# --- classes of slope


def _numbers(text: str) -> list[float]:
    try:
        values = [float(part) for part in text.split(",")]
    except ValueError:
        raise ValueError("numbers with commas, such as 5, 15, 30") from None
    if values != sorted(set(values)) or not all(abs(v) <= MOST for v in values):
        raise ValueError("bounds that rise, such as 5, 15, 30")
    return values


def _checked_bounds(text: str) -> str:
    _numbers(text)
    return text


class SlopeClassSettings(Settings):
    """Settings of slope_classes."""

    unit: Literal["degrees", "percent"] = setting("percent", "Unit", "45 degrees is 100 percent.")
    bounds: Annotated[str, AfterValidator(_checked_bounds)] | None = setting(
        None, "Bounds", "Between the classes, with commas; those of FAO 2006 when left out."
    )
    names: str | None = setting(
        None, "Names", "Of the classes from gentle to steep, with commas; their ranges when left out."
    )
    closed: Literal["upper", "lower"] = setting(
        "upper", "Included end", "`upper`: a bound belongs to the class below it; `lower`: to the one above."
    )

    def rules(self) -> Any:
        """The ready set, or rows of ranges."""
        if not self.bounds:
            return "fao_slope"
        bounds = [0.0, *(b for b in _numbers(self.bounds) if b > 0.0), None]
        names = [n.strip() for n in (self.names or "").split(",") if n.strip()]
        count, sign = len(bounds) - 1, "°" if self.unit == "degrees" else " %"
        if names and len(names) != count:
            raise AskedWronglyError(
                f"{len(names)} names are given for {count} classes.", f"Give {count} names, or none."
            )
        colors = colors_between(count)
        return [
            {
                "from": low,
                "to": high,
                "class": k + 1,
                "name": names[k]
                if names
                else f"over {low:g}{sign}"
                if high is None
                else f"{low:g}-{high:g}{sign}",
                "color": colors[k],
            }
            for k, (low, high) in enumerate(itertools.pairwise(bounds))
        ]


def _range(low: float, high: float | None, sign: str) -> str:
    return f"over {low:g}{sign}" if high is None else f"{low:g}-{high:g}{sign}"


def _slope_plan(settings: SlopeClassSettings, names: Mapping[str, str]) -> tuple[Planned, ...]:
    return (
        Planned("slope", "slope", {"dem": "dem"}, {"unit": settings.unit}),
        Planned(
            "classes",
            "classify",
            {"surface": "slope"},
            {"rules": settings.rules(), "closed": settings.closed},
            "Slope classes",
        ),
    )


slope_classes = StepKind(
    kind="slope_classes",
    bench="classes",
    group="Bounds and classes",
    title="Slope classes",
    question="Which ground falls in which class of slope?",
    help="Slope put in named classes with stated ends, in one go. Kept as its two steps.",
    words=("slope classes", "steepness classes", "fao", "trafficability", "slope map"),
    inputs=(DEM,),
    settings=SlopeClassSettings,
    gives="classes",
    run=run_plan(_slope_plan),
    plan=_slope_plan,
    memory=12,
    label=lambda s, names: f"Slope classes of {names['dem']}",
)


# --- suitability by classes of slope and bearing


class SuitabilitySettings(Settings):
    """Settings of suitability."""

    slope_rules: RulesField = setting(
        "fao_slope",
        "Slope by",
        f"A CSV file with from,to,class,name,color, or a ready set: {', '.join(PRESETS)}.",
    )
    aspect_rules: RulesField = setting("aspect_8", "Bearing by", "A CSV file as for slope, or a ready set.")
    slope_unit: Literal["degrees", "percent"] = setting(
        "percent", "Unit of slope", "The unit that the ranges of slope are in."
    )
    rule: Literal["weighted", "worst", "which"] = setting(
        "weighted",
        "Together",
        "`weighted`: the mean class; `worst`: the higher class; `which`: each combination by name.",
    )
    slope_weight: float = setting(
        1.0,
        "Weight of slope",
        "Beside a weight of 1 for bearing.",
        when={"rule": ("weighted",)},
        gt=0,
        le=1e6,
        more=True,
    )


def _suitability_plan(settings: SuitabilitySettings, names: Mapping[str, str]) -> tuple[Planned, ...]:
    rows = {
        name: rule if isinstance(rule, str) else [row.model_dump(by_alias=True) for row in rule]
        for name, rule in (("slope", settings.slope_rules), ("aspect", settings.aspect_rules))
    }
    together: dict[str, Any] = {"rule": settings.rule}
    if settings.rule == "weighted":
        together["weights"] = f"{settings.slope_weight:g},1"
    return (
        Planned("slope", "slope", {"dem": "dem"}, {"unit": settings.slope_unit}),
        Planned("slope_class", "classify", {"surface": "slope"}, {"rules": rows["slope"]}),
        Planned("aspect", "aspect", {"dem": "dem"}),
        Planned("aspect_class", "classify", {"surface": "aspect"}, {"rules": rows["aspect"]}),
        Planned(
            "suitability",
            "combine",
            {"slope": "slope_class", "bearing": "aspect_class"},
            together,
            "Suitability",
        ),
    )


suitability = StepKind(
    kind="suitability",
    bench="classes",
    group="Several together",
    title="Suitability",
    question="How suitable is the ground by slope and bearing?",
    help="Slope and bearing put in classes by files of rules, then laid over one another. Kept as its steps.",
    words=("suitability", "site selection", "rules file", "slope and aspect", "multi-criteria", "siting"),
    inputs=(DEM,),
    settings=SuitabilitySettings,
    gives="classes",
    run=run_plan(_suitability_plan),
    plan=_suitability_plan,
    memory=40,
    label=lambda s, names: "Suitability",
)
