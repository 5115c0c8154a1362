"""Surface: volume, areas and depths under a level, over it, and the level for a volume."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal

import numpy as np

from moss_step.formats.vector import in_system
from moss_step.model.chart import Chart
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.findings import MAIN, USUAL, Finding, declared
from moss_step.model.outcome import Outcome
from moss_step.model.progress import Progress
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.telling import mark
from moss_step.model.tin import Tin
from moss_step.model.typed import as_kind
from moss_step.model.units import CUBIC_METRE, SHARE, SQUARE_METRE, Unit
from moss_step.model.words import value_text
from moss_step.science.interpolate.levels import depth_at, level_for, levels_of, storage_of_grid
from moss_step.science.interpolate.tin import Held, storage_of_tin
from moss_step.science.laying import cells_inside
from moss_step.science.relief.contours import line_at
from moss_step.steps.declare import Inputs, InputSpec, ResultSpec, Settings, StepKind, optional, setting

_VOLUME = declared("volume", "Volume", MAIN)
_PLAN = declared("plan_area", "Area on the plan", MAIN)
_GROUND = declared("surface_area", "Area on the ground", USUAL)
_MEAN = declared("mean_depth", "Mean depth", USUAL)
_DEEPEST = declared("greatest_depth", "Greatest depth", USUAL)
_TIN_VOLUME = declared("tin_volume", "Volume by the TIN", USUAL)
_APART = declared("tin_differs_by", "The TIN differs by", USUAL)


class StorageSettings(Settings):
    """Settings of storage."""

    level: float | None = setting(
        None, "Level", "In the unit of the heights. Left out, that for the volume.", control="slider"
    )
    volume: float | None = setting(
        None, "Volume wanted", "The level is found that holds it.", unit="m³", gt=0, when={"level": (None,)}
    )
    side: Literal["below", "above"] = setting(
        "below", "Side", "`below` as water lies, between the surface and the level; `above` what stands out."
    )


def _storage(settings: StorageSettings, inputs: Inputs, progress: Progress) -> Outcome:
    surface, tin = as_kind(inputs["surface"], Surface), optional(inputs, "tin", Tin)
    area = optional(inputs, "area", Shapes)
    if (settings.level is None) == (settings.volume is None):
        raise AskedWronglyError(
            "A level or a volume is needed, not both.", "Drag the level, or state the volume.",
            "Give level=... or volume=...",
        )  # fmt: skip
    if area is not None:
        surface = _within(surface, area)
    if surface.range is None:
        raise MossError("The surface has no values there.", "Take a larger outline, or another surface.")
    below = settings.side == "below"
    progress.at(0.1, "Adding up")
    level = (
        settings.level if settings.level is not None else level_for(surface, settings.volume or 0.0, below)
    )
    held = storage_of_grid(surface, level, below)
    findings, said = _findings(held, level, surface.unit), _said(surface, level, held, settings.side)
    if tin is not None:
        more, words = _beside_tin(tin, surface, level, below, held, area is not None)
        findings, said = (*findings, *more), (*said, *words)
    depth = depth_at(surface, level, below)

    def shore() -> Outcome:
        return Outcome(_shore(surface, level), f"at {level:g}", findings)

    def curve() -> Outcome:
        return Outcome(_chart(surface, below), f"{mark(held.volume, CUBIC_METRE)} at {level:g}", findings)

    return Outcome(
        depth, mark(held.volume, CUBIC_METRE), findings, said, beside={"shoreline": shore, "curve": curve}
    )


def _within(surface: Surface, area: Shapes) -> Surface:
    inside = cells_inside(surface.frame, in_system(area, surface.frame.crs))
    values = np.where(inside, surface.values, np.nan).astype(surface.values.dtype)
    return Surface(values, surface.frame, surface.unit, surface.quantity)


def _findings(held: Held, level: float, unit: Unit) -> tuple[Finding, ...]:
    metres = unit.metres
    return (
        Finding(_VOLUME, held.volume, CUBIC_METRE),
        Finding(_PLAN, held.plan_area, SQUARE_METRE),
        Finding(_GROUND, held.surface_area, SQUARE_METRE),
        Finding(_MEAN, held.mean_depth / metres, unit),
        Finding(_DEEPEST, held.greatest_depth, unit),
        Finding("level", level, unit),
    )


def _said(surface: Surface, level: float, held: Held, side: str) -> tuple[str, ...]:
    known = surface.unit.kind == "length"
    said = () if known else ("The unit of the heights is not stated: metres are taken.",)
    if held.plan_area > 0 or surface.range is None:
        return said
    low, high = (value_text(v, surface.unit) for v in surface.range)
    return (*said, f"Nothing lies {side} {level:g}: the surface runs from {low} to {high}.")


def _beside_tin(
    tin: Tin, surface: Surface, level: float, below: bool, held: Held, cut: bool
) -> tuple[tuple[Finding, ...], tuple[str, ...]]:  # fmt: skip
    """What triangles hold, prism by prism, and how far the cells are from it."""
    own = storage_of_tin(tin, level * surface.unit.metres / tin.unit.metres, below)
    apart = (own.volume - held.volume) / held.volume if held.volume > 0 else float("nan")
    findings = (Finding(_TIN_VOLUME, own.volume, CUBIC_METRE), Finding(_APART, apart, SHARE))
    said = "The outline cuts the grid alone: the TIN ends where its own outline does."
    said = "The outline cuts the grid alone: the TIN ends where its own outline does."
    return findings, (said,) if cut else ()


def _shore(surface: Surface, level: float) -> Shapes:
    """The line where the surface meets the level."""
    lines = line_at(surface, level)
    columns = {"elevation": np.full(len(lines), level), "length_m": surface.frame.lengths(lines)}
    return Shapes(lines, columns, surface.frame.crs, {"elevation": surface.unit.symbol})


def _chart(surface: Surface, below: bool) -> Chart:
    made = levels_of(surface, below)
    return Chart(
        {"stage": made.level, "volume_m3": made.volume, "area_m2": made.area},
        {"stage": surface.unit, "volume_m3": CUBIC_METRE, "area_m2": SQUARE_METRE},
        "stage", ("volume_m3", "area_m2"),
    )  # fmt: skip


def _label(settings: StorageSettings, names: Mapping[str, str]) -> str:
    if settings.level is None and settings.volume is not None:
        return f"Level for {settings.volume:g} m³"
    level = "a level" if settings.level is None else f"{settings.level:g}"
    return f"{settings.side.capitalize()} {level} of {names['surface']}"


storage = StepKind(
    kind="storage",
    example="surface=ground.tif level=480 -o curve=storage.csv",
    bench="surface",
    group="Levels",
    title="Volume under a level",
    question="How much lies below a level, or stands above it?",
    help=(
        "Volume, areas and depths between a surface and a level, the shoreline, and the curve of volume and "
        "area by level; or the level for a volume. A TIN beside the grid says how far the two differ."
    ),
    formula=(
        "grid: V = Σ (level − z) × cell area where z < level; TIN: each prism exactly, cut where a side "
        "meets the level; mean depth = V / plan area; area on the ground = Σ cell area × √(1 + tan² slope)"
    ),
    words=(
        "storage", "reservoir", "stage storage", "capacity", "bathymetry", "lake volume", "elevation area",
        "hypsometric volume", "water level", "stockpile",
    ),
    inputs=(
        InputSpec("surface", "surface", "Surface", "Heights of the ground or the bed."),
        InputSpec("tin", "tin", "TIN", "The same as triangles: an exact volume.", True, more=True),
        InputSpec("area", "shapes", "Outline", "Areas that alone count.", True, shapes="areas"),
    ),
    settings=StorageSettings,
    gives="surface",
    run=_storage,
    memory=70,
    label=_label,
    look={"ramp": "tarn"},
    main="Depth",
    beside=(
        ResultSpec("shoreline", "shapes", "Shoreline", "The line where the surface meets the level."),
        ResultSpec("curve", "chart", "By level", "Volume and area on the plan at every level."),
    ),
    staple=5,
)  # fmt: skip
