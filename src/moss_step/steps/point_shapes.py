"""Measures of shape around each point."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import BeforeValidator

from moss_step.model.cloud import Cloud
from moss_step.model.errors import MossError
from moss_step.model.findings import MAIN, USUAL, Finding, declared
from moss_step.model.outcome import Outcome
from moss_step.model.progress import Progress
from moss_step.model.typed import as_kind
from moss_step.model.units import COUNT, METRE, NONE
from moss_step.science.points.blocks import MOST
from moss_step.science.points.measures import band_statistics, shape_measures
from moss_step.science.points.near import plan_in_metres
from moss_step.science.points.objects import by_blocks, heights_of
from moss_step.steps.cloud_classes import classes_of
from moss_step.steps.clouds import CLOUD, POINTS, Codes
from moss_step.steps.declare import Inputs, Settings, StepKind, setting
from moss_step.steps.radii import RadiiField, radii_in, radii_of

_SHAPELESS = declared("shapeless_points", "Points without a shape", USUAL)
_RADIUS = declared("largest_radius", "Radius, the largest", USUAL)
_MEAN = declared("mean_of_first", "Mean of the first measure", MAIN)

Measure = Literal[
    "linearity", "planarity", "scattering", "omnivariance", "anisotropy", "eigenentropy",
    "surface_variation", "verticality", "roughness", "point_density", "height_range", "height_deviation",
    "echo_ratio", "height_above", "intensity", "color",
]  # fmt: skip
_BANDS: dict[str, tuple[str, ...]] = {"intensity": ("intensity",), "color": ("red", "green", "blue")}
_AROUND = ("height_above", *_BANDS)
"""Measures that are no shapes."""


def _listed(value: Any) -> Any:
    """Names of measures from text with commas."""
    return (
        tuple(part.strip() for part in value.split(",") if part.strip()) if isinstance(value, str) else value
    )


class ShapeSettings(Settings):
    """Settings of shape_measures."""

    measures: Annotated[tuple[Measure, ...], BeforeValidator(_listed)] = setting(
        ("linearity", "planarity", "verticality"),
        "Measures",
        "Names with commas; the manual says what each one tells.",
        min_length=1,
    )
    radii: RadiiField = setting(
        None,
        "Radii",
        "Metres around each point[[: 1,2,4]]; by the spacing when left out. Too small: noise; too "
        "large: edges blur.",
    )
    best: bool = setting(
        False, "Best radius for each point", "The one at which the eigenentropy of its shape is least."
    )
    classes: Codes = setting(
        (),
        "Classes",
        "Points of these classes alone count and are measured[[: 1,5]]; left out, all.",
        more=True,
    )


def _shape_measures(settings: ShapeSettings, inputs: Inputs, progress: Progress) -> Outcome:
    cloud = as_kind(inputs["cloud"], Cloud)
    radii = radii_of(settings.radii, cloud, 3 if settings.best else 1)
    _check_bands(cloud, settings.measures)
    chosen = np.isin(classes_of(cloud), settings.classes) if settings.classes else np.ones(len(cloud), bool)
    if not chosen.any():
        raise MossError("No point is of these classes.", "Take other classes.")
    names = _names(settings, radii)
    out = [np.full(len(cloud), np.nan, np.float32) for _ in names]

    def work(rows: np.ndarray, inner: Progress) -> Sequence[np.ndarray]:
        part = cloud.part(rows)
        made = _measured(part, chosen[rows], settings, radii, inner)
        return [made[n] for n in names.values()]

    by_blocks(cloud, 2.0 * max(radii), work, out, progress)
    attributes = {**cloud.attributes, **dict(zip(names, out, strict=True))}
    first = out[0]
    held = np.isfinite(first)
    if not held.any():
        raise MossError(
            "No point has three others within the radius that differ in place.", "Take a larger radius."
        )
    findings = (
        Finding(_MEAN, float(first[held].mean()), NONE),
        Finding(_RADIUS, max(radii), METRE),
        Finding(_SHAPELESS, int(chosen.sum() - held.sum()), COUNT),
        Finding(POINTS, int(chosen.sum()), COUNT),
    )
    said = f"{len(names)} measures" if len(names) > 1 else next(iter(names)).replace("_", " ")
    return Outcome(replace(cloud, attributes=attributes), said, findings)


def _check_bands(cloud: Cloud, measures: Sequence[str]) -> None:
    for measure in measures:
        if missing := [b for b in _BANDS.get(measure, ()) if b not in cloud.attributes]:
            raise MossError(f"The points have no {missing[0]}.", "Choose other measures.")


def _names(settings: ShapeSettings, radii: Sequence[float]) -> dict[str, str]:
    """Attributes, and what they are called while they are worked out: of one radius, or the best, by the name
    of the measure alone.
    """
    shapes = [m for m in settings.measures if m not in _AROUND]
    single = settings.best or len(radii) == 1
    result: dict[str, str] = {}
    for measure in settings.measures:
        if measure == "height_above":
            result[measure] = measure
        elif measure in _BANDS:
            for band in _BANDS[measure]:
                for what in ("mean", "deviation"):
                    result |= {
                        f"{band}_{what}"
                        if len(radii) == 1
                        else f"{band}_{what}_{_cm(r)}": f"{band}_{what}_{_cm(r)}"
                        for r in radii
                    }
        elif settings.best:
            result[measure] = measure
        else:
            result |= {measure if single else f"{measure}_{_cm(r)}": f"{measure}_{_cm(r)}" for r in radii}
    return {**result, "best_radius": "best_radius"} if settings.best and shapes else result


def _cm(radius: float) -> str:
    return f"{round(radius * 100)}cm"


def _measured(
    part: Cloud, chosen: np.ndarray, settings: ShapeSettings, radii: Sequence[float], progress: Progress
) -> dict[str, np.ndarray]:
    """All measures of some points by the names that they are worked out under; NaN for those not chosen."""
    flat, rows = plan_in_metres(part), np.flatnonzero(chosen)
    mine = flat.part(rows)
    shapes = [m for m in settings.measures if m not in _AROUND]
    found: dict[str, np.ndarray] = {}
    if shapes:
        found |= shape_measures(mine, radii, shapes, settings.best, progress.part(0.0, 0.8))
    bands = {b: np.asarray(part.attributes[b])[rows] for m in settings.measures for b in _BANDS.get(m, ())}
    if bands:
        progress.at(0.8, "Adding up what points came with")
        found |= band_statistics(mine, radii, bands)
    if "height_above" in settings.measures:
        found["height_above"] = heights_of(part, classes_of(part), rows) / part.unit.metres
    return {n: _spread(v, rows, len(part)) for n, v in found.items()}


def _spread(values: np.ndarray, rows: np.ndarray, count: int) -> np.ndarray:
    out = np.full(count, np.nan, np.float32)
    out[rows] = values
    return out


def _draws(settings: ShapeSettings) -> Mapping[str, Any]:
    """By the first measure."""
    radii = radii_in(settings.radii) if settings.radii else (1.0,)
    return {"column": next(iter(_names(settings, radii)))}


def _shape_memory(settings: ShapeSettings, inputs: Inputs) -> float:
    """Bytes of the measures of a block's points, and of those that are kept of all."""
    count = len(as_kind(inputs["cloud"], Cloud))
    radii = len(radii_in(settings.radii)) if settings.radii else 3
    kept = 4.0 * radii * (len(settings.measures) + 5)
    return (330.0 + 2.0 * kept) * min(count, 2 * MOST) + kept * count


shape_measures_step = StepKind(
    kind="shape_measures",
    example="measures=planarity,verticality radii=1.5",
    bench="points",
    group="Shapes and objects",
    title="Measures of shape",
    question="Do the points lie as a line, a plane or a ball?",
    help=(
        "How the points within a radius of each one lie: as a line, a plane or a ball, how steep and "
        "how rough. "
        "Each measure is an attribute that can be drawn, read and used by later steps."
    ),
    formula=(
        "λ₁ ≥ λ₂ ≥ λ₃ of the covariance within the radius, e = λ / Σ λ; linearity = (λ₁ − λ₂) / λ₁; "
        "planarity = "
        "(λ₂ − λ₃) / λ₁; scattering = λ₃ / λ₁; anisotropy = (λ₁ − λ₃) / λ₁; omnivariance = (e₁ e₂ e₃)^⅓; "
        "eigenentropy = −Σ e ln e; surface_variation = e₃; verticality = 1 − |n_z|; roughness = "
        "distance from the "
        "plane; echo_ratio = points in the ball / in the cylinder"
    ),
    words=(
        "eigenvalues", "covariance", "pca", "dimensionality", "features", "linearity", "planarity",
        "verticality", "roughness", "echo ratio", "neighbourhood",
    ),
    inputs=(CLOUD,),
    settings=ShapeSettings,
    gives="cloud",
    run=_shape_measures,
    label=lambda s, names: f"{s.measures[0].replace('_', ' ').capitalize()} of {names['cloud']}",
    draws=_draws,
    memory=_shape_memory,
    staple=10,
)  # fmt: skip
