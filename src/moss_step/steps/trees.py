"""Single trees on a grid of heights above the ground."""

from __future__ import annotations

from moss_step.model.findings import MAIN, USUAL, Finding, declared
from moss_step.model.outcome import Outcome
from moss_step.model.progress import Progress
from moss_step.model.surface import Surface
from moss_step.model.typed import as_kind
from moss_step.model.units import COUNT, METRE, SQUARE_METRE
from moss_step.science.points import trees
from moss_step.steps.declare import Inputs, InputSpec, ResultSpec, Settings, StepKind, setting

_TREES = declared("trees", "Trees", MAIN)
_CROWNS = declared("crowns_m2", "Ground under crowns", USUAL)
_ACROSS = declared("mean_crown", "Mean crown, across", USUAL)


class TreeSettings(Settings):
    """Settings of single_trees."""

    least: float = setting(
        trees.USUAL.least, "Lowest tree", "What is lower counts for nothing.", unit="m", gt=0, le=200
    )
    window: float = setting(
        trees.USUAL.base,
        "Window",
        "Its diameter on the ground. Too small: branches are trees; too large: small trees are lost.",
        unit="m",
        gt=0,
        le=100,
        more=True,
    )
    growth: float = setting(
        trees.USUAL.growth,
        "Growth of the window",
        "Its diameter grows by this times the square of the height in metres.",
        ge=0,
        le=1,
        more=True,
    )
    crown: float = setting(
        trees.USUAL.crown,
        "Crown down to",
        "Share of a tree's height. Too small: crowns take in bushes; too large: they are cut.",
        ge=0,
        lt=1,
        more=True,
    )
    calm: bool = setting(
        True, "Calm first", "Compare means of 3 x 3 cells; heights are still those of the grid.", more=True
    )


def _single_trees(settings: TreeSettings, inputs: Inputs, progress: Progress) -> Outcome:
    heights = as_kind(inputs["heights"], Surface)
    how = trees.TreeSet(settings.least, settings.window, settings.growth, settings.crown, settings.calm)
    points, crowns = trees.single_trees(heights, how, progress)
    count = len(points)
    findings = (
        Finding(_TREES, count, COUNT),
        Finding("highest", float(points.columns["tree_height"].max()), heights.unit),
        Finding("mean", float(points.columns["tree_height"].mean()), heights.unit),
        Finding(_ACROSS, float(points.columns["crown_m"].mean()), METRE),
        Finding(_CROWNS, float(points.columns["crown_m2"].sum()), SQUARE_METRE),
    )
    figure = f"{count:,} trees".replace(",", " ") if count != 1 else "1 tree"
    return Outcome(points, figure, findings, (), beside={"crowns": lambda: Outcome(crowns, figure, findings)})


single_trees = StepKind(
    kind="single_trees",
    example="heights=above_water.tif least=3 -o crowns=crowns.gpkg",
    bench="points",
    group="Heights above ground",
    title="Single trees",
    question="Which trees stand here, how high and how wide?",
    help=(
        "Tops are the highest cells within a window that grows with "
        "the height (Popescu & Wynne 2004); crowns "
        "grow down from them (marker-controlled watershed)."
    ),
    formula=(
        "top: h ≥ all heights within a diameter of window + growth × "
        "h²; crown: cells that flood from the top "
        "down to crown × h; crown_m = 2 √(crown_m2 / π)"
    ),
    words=("tree tops", "forest", "crown delineation", "local maxima", "individual trees", "stem", "canopy"),
    inputs=(
        InputSpec("heights", "surface", "Heights above ground", "Canopy, or first returns less ground."),
    ),
    settings=TreeSettings,
    gives="shapes",
    run=_single_trees,
    label=lambda s, names: f"Trees of {names['heights']}",
    look={"column": "tree_height"},
    memory=60,
    main="Trees",
    beside=(ResultSpec("crowns", "shapes", "Crowns", "The ground that each tree covers."),),
    staple=7,
)
