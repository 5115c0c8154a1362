"""Buildings, plants, wires and water among the points of a cloud."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Literal

import numpy as np

from moss_step.learned import objects as learned_objects
from moss_step.model.cloud import (
    BUILDING,
    GROUND,
    HIGH_NOISE,
    HIGH_PLANTS,
    LOW_NOISE,
    LOW_PLANTS,
    MEDIUM_PLANTS,
    WATER,
    WIRE,
    Cloud,
)
from moss_step.model.findings import MAIN, USUAL, Finding, declared
from moss_step.model.outcome import Outcome
from moss_step.model.point_model import PointModel
from moss_step.model.progress import Progress, silent
from moss_step.model.typed import as_kind
from moss_step.model.units import COUNT, METRE, SHARE
from moss_step.science.points import roofs
from moss_step.science.points.blocks import MOST
from moss_step.science.points.near import plan_in_metres
from moss_step.science.points.objects import (
    by_blocks,
    has_echoes,
    objects_by_likelihood,
    standing,
)
from moss_step.steps.cloud_classes import (
    CHANGES,
    GroundSettings,
    Terrain,
    classes_of,
    ground_codes_of,
    reclassified,
)
from moss_step.steps.clouds import CLOUD, Codes
from moss_step.steps.declare import Inputs, ResultSpec, Settings, StepKind, setting
from moss_step.steps.radii import spacing_of

_BUILDINGS = declared("building_points", "Building points", MAIN)
_PLANTS = declared("plant_points", "Plant points", MAIN)
_WIRES = declared("wire_points", "Wire points", USUAL)
_WATER = declared("water_points", "Water points", USUAL)
_SURE = declared("mean_probability", "Mean probability", USUAL)
_SPACING = declared("spacing", "Spacing of points", USUAL)
_DENSE = 0.26
"""Metres of spacing below which points are as a drone's."""
_MARGIN = 60.0
"""Metres around a block: as wide as roofs are."""


class ObjectSettings(Settings):
    """Settings of object_points: what both methods share stands once."""

    method: Literal["grid", "likelihood"] = setting(
        "grid",
        "Method",
        "`grid` looks for smooth roofs, and is for surveys from the air; `likelihood` weighs the "
        "shape around "
        "each point, and is for a drone's and dense clouds, too.",
    )
    terrain: Terrain = setting(
        "upland", "Ground", "How ground is looked for where no point is ground yet.", more=True
    )
    roof: float = setting(
        20.0,
        "Least roof",
        "Too small: crowns are roofs; too large: sheds are plants.",
        unit="m²",
        gt=0,
        le=1e6,
    )
    eaves: float = setting(
        2.0,
        "Lowest roof",
        "Above the ground. Too low: hedges and vehicles are roofs.",
        unit="m",
        gt=0,
        le=100,
    )
    low: float = setting(
        0.5, "Low plants up to", "Height above the ground; what lies at it is medium.", unit="m", gt=0, le=100
    )
    medium: float = setting(
        2.0,
        "Medium plants up to",
        "Height above the ground; what lies at it is high.",
        unit="m",
        gt=0,
        le=100,
    )
    least: float = setting(
        0.15, "Plants from", "What is lower stays unassigned.", unit="m", ge=0, le=10, more=True
    )
    spacing: float | None = setting(
        None,
        "Spacing of points",
        "From the density of the cloud when left out.",
        unit="m",
        gt=0,
        le=100,
        more=True,
    )
    classes: Codes = setting(
        (), "Classes that may change", "Left out, all but ground, water and noise[[: 1,5]].", more=True
    )
    view: Literal["by_density", "air", "drone"] = setting(
        "by_density",
        "Learned from",
        "Simulated surveys from the `air` (2 to 10 points a square metre), or a `drone`.",
        when={"method": ("likelihood",)},
        more=True,
    )
    weigh: Literal["forest", "gaussian"] = setting(
        "forest", "Likelihood by", "A `forest` of decision trees, or a normal distribution of each class.",
        when={"method": ("likelihood",)}, more=True,
    )  # fmt: skip
    water: bool = setting(
        False,
        "Look for water",
        "Level ground of 200 m² and more becomes water: not for level fields.",
        more=True,
    )


def _object_points(settings: ObjectSettings, inputs: Inputs, progress: Progress) -> Outcome:
    cloud = as_kind(inputs["cloud"], Cloud)
    before = classes_of(cloud)
    codes = before.astype(np.uint8)
    if not (codes == GROUND).any():
        found = ground_codes_of(GroundSettings(terrain=settings.terrain), cloud, progress.part(0.0, 0.5))
        codes = np.where(np.isin(found, (GROUND, LOW_NOISE, HIGH_NOISE)), found, codes).astype(np.uint8)
    made = _by_method(settings, cloud, before, codes, progress.part(0.5, 1.0))
    other = settings.model_copy(update={"method": "likelihood" if settings.method == "grid" else "grid"})

    def by_the_other() -> Outcome:
        return replace(_by_method(other, cloud, before, codes, silent()), beside={})

    return replace(made, beside={**made.beside, "other_method": by_the_other})


def _by_method(
    settings: ObjectSettings, cloud: Cloud, before: np.ndarray, bare: np.ndarray, progress: Progress
) -> Outcome:
    """Points sorted by one method, from what is ground and noise."""
    codes, sure = bare.copy(), np.full(len(cloud), np.nan, np.float32)
    how, echoes = _how(settings, cloud), has_echoes(cloud)
    model = _model(settings, how, echoes) if settings.method == "likelihood" else None

    def work(rows: np.ndarray, inner: Progress) -> Sequence[np.ndarray]:
        part = cloud.part(rows)
        number = np.asarray(part.attributes["number_of_returns"]) if echoes else None
        return _sorted_out(settings, part, bare[rows], (how, model, number), inner)

    by_blocks(cloud, _MARGIN, work, [codes, sure], progress)
    return _said(settings, cloud, before, codes, sure, how)


_By = tuple[roofs.ObjectSet, PointModel | None, np.ndarray | None]
"""Bounds, what was learned where that is asked for, and returns of the pulses where they are known."""


def _how(settings: ObjectSettings, cloud: Cloud) -> roofs.ObjectSet:
    return roofs.ObjectSet(
        settings.spacing or spacing_of(cloud), settings.roof, settings.eaves, settings.low,
        max(settings.medium, settings.low), settings.least,
    )  # fmt: skip


def _sorted_out(
    settings: ObjectSettings, part: Cloud, before: np.ndarray, by: _By, progress: Progress
) -> tuple[np.ndarray, np.ndarray]:
    """Classes of some points, and how sure they are."""
    how, model, echoes = by
    codes, sure = before.copy(), np.full(len(part), np.nan, np.float32)
    if settings.water:
        level = np.flatnonzero(codes == GROUND)
        codes[level[roofs.level_water(plan_in_metres(part).part(level), how)]] = WATER
    if not (before == GROUND).any() and "height_above" not in part.attributes:
        return codes, sure  # a block without any ground: nothing says how high its points stand
    these = standing(part, codes, settings.classes)
    if model is not None:
        codes[these.rows], sure[these.rows] = objects_by_likelihood(these, model, how, progress)
    else:
        own = None if echoes is None else echoes[these.rows]
        codes[these.rows] = roofs.objects_by_grid(these.flat, these.above, own, how, progress)
    return codes, sure


def _model(settings: ObjectSettings, how: roofs.ObjectSet, echoes: bool) -> PointModel:
    view: str = settings.view
    if view == "by_density":
        view = "drone" if how.spacing < _DENSE else "air"
    if view == "air" and not echoes:
        view = "air_single"
    return learned_objects(view, settings.weigh)


def _said(
    settings: ObjectSettings, cloud: Cloud, before: np.ndarray, codes: np.ndarray, sure: np.ndarray,
    how: roofs.ObjectSet,
) -> Outcome:  # fmt: skip
    count = np.bincount(codes, minlength=256)
    figure = f"{int(count[BUILDING]):,} building points".replace(",", " ")
    made = reclassified(cloud, before, codes, figure)
    plants = int(count[[LOW_PLANTS, MEDIUM_PLANTS, HIGH_PLANTS]].sum())
    findings = [
        Finding(_BUILDINGS, int(count[BUILDING]), COUNT),
        Finding(_PLANTS, plants, COUNT),
        Finding(_WIRES, int(count[WIRE]), COUNT),
        *([Finding(_WATER, int(count[WATER]), COUNT)] if settings.water else []),
        Finding(_SPACING, how.spacing, METRE),
        *made.findings,
    ]
    value = made.value
    if settings.method == "likelihood":
        held = as_kind(value, Cloud)
        value = replace(held, attributes={**held.attributes, "probability": sure})
        known = sure[np.isfinite(sure)]
        if known.size:
            findings.insert(2, Finding(_SURE, float(known.mean()), SHARE))
    return replace(made, value=value, findings=tuple(findings))


_OTHER = ResultSpec(
    "other_method",
    "cloud",
    "By the other method",
    "The same by the other method, with the same settings: both run again when one of them changes.",
    {"column": "classification"},
    asked=True,
)

object_points = StepKind(
    kind="object_points",
    example="method=likelihood -o changes=changes.csv",
    bench="points",
    group="Shapes and objects",
    title="Buildings and plants",
    question="Which points are buildings, plants and wires?",
    help=(
        "Sorts what stands on the ground into buildings, low, medium and high plants and wires; "
        "finds the ground first where none is known."
    ),
    formula=(
        "grid: roof where a smooth segment covers ≥ least roof, mostly single returns; likelihood: "
        "class of the "
        "greatest mean share within the second radius, by trees or p ∝ exp(−½ (x − μ)ᵀ Σ⁻¹ (x − μ)) "
        "/ √|Σ|; plants by "
        "their height above the ground; wire: straight, thin and long, high above it"
    ),
    words=(
        "classify", "building", "vegetation", "roof", "trees", "power line", "wires", "water",
        "random forest",
        "machine learning", "drone", "photogrammetry",
    ),
    inputs=(CLOUD,),
    settings=ObjectSettings,
    gives="cloud",
    run=_object_points,
    label=lambda s, names: f"Objects of {names['cloud']}, by {s.method}",
    look={"column": "classification"},
    memory=lambda s, inputs: _memory(len(as_kind(inputs["cloud"], Cloud))),
    main="Points",
    beside=(CHANGES, _OTHER),
    staple=3,
)  # fmt: skip


def _memory(count: int) -> float:
    """Bytes of the search for ground, or of a block's measures, with codes and shares of all points."""
    return 700.0 * min(count, 2 * MOST) + 9.0 * count
