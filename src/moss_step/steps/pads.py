"""Earthwork: a pad, level or with a fall, with side slopes to where they meet the ground."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal

import shapely

from moss_step.model.errors import AskedWronglyError
from moss_step.model.findings import MAIN, Finding, declared
from moss_step.model.outcome import Outcome
from moss_step.model.progress import Progress
from moss_step.model.surface import Surface
from moss_step.model.typed import as_kind
from moss_step.science.earthwork.balance import balanced
from moss_step.science.earthwork.design import Design, Template
from moss_step.science.earthwork.design import pad as pad_of
from moss_step.science.earthwork.outline import rings_of
from moss_step.science.earthwork.works import Built, built
from moss_step.steps.cut_fill import CutFillSettings, outlines_of
from moss_step.steps.declare import Inputs, InputSpec, Settings, setting
from moss_step.steps.designs import (
    GROUND,
    design_kind,
    design_outcome,
    findings_of,
    slope_setting,
)
from moss_step.steps.fields import PointsField
from moss_step.steps.moved_figures import cost, density, shrink, swell

_LEVEL = declared("pad_level", "Level of the pad", MAIN)


class PadSettings(Settings):
    """Settings of pad."""

    lies: Literal["balanced", "at_level"] = setting(
        "balanced",
        "Lies",
        "`balanced`: where cut, once compacted, is what is filled; `at_level`: at a level.",
    )
    level: float | None = setting(
        None, "Level", "Of its middle, in the unit of the heights.", control="slider",
        when={"lies": ("at_level",)},
    )  # fmt: skip
    cut_slope: float = slope_setting("Slope in cut, 1 to", "Above the pad.", 1.5)
    fill_slope: float = slope_setting("Slope in fill, 1 to", "Below the pad.", 2.0)
    fall: float = setting(
        0.0, "Fall", "Of the pad, for drainage; 0 is level.", unit="%", ge=0, le=30, more=True
    )
    toward: float = setting(
        180.0, "Falls toward", "Bearing, clockwise from north.", unit="°", ge=0, lt=360, more=True
    )
    outline: PointsField | None = setting(
        None, "Outline", "Its corners[[: x,y;x,y;x,y]].", control="outline", without_input="area", more=True
    )
    swell: float = swell()
    shrink: float = shrink()
    density: float | None = density()
    cost: float | None = cost()


def pad_design(
    settings: PadSettings, surface: Surface, area: shapely.Geometry, progress: Progress | None = None
) -> tuple[Design, Built, float]:
    """The pad that settings ask for, what is built, and its level in the unit of the ground.

    Raises MossError when it cannot be built.
    """
    metres = surface.metres_per_height
    template = Template(cut=(settings.cut_slope,) * 2, fill=(settings.fill_slope,) * 2)
    if settings.lies == "at_level" and settings.level is None:
        raise AskedWronglyError("No level is stated.", "Drag it, or type it.", "Give level=...")
    level = (settings.level or 0.0) * metres
    design = pad_of(surface.frame, area, level, template, settings.fall / 100.0, settings.toward)
    if settings.lies == "at_level":
        return design, built(surface, design), level / metres
    design, made = balanced(surface, design, settings.shrink, progress)
    return design, made, design.level / metres


def _pad(settings: PadSettings, inputs: Inputs, progress: Progress) -> Outcome:
    surface = as_kind(inputs["surface"], Surface)
    areas = outlines_of(CutFillSettings(outline=settings.outline), inputs, surface.frame.crs)
    area = shapely.union_all(areas.geometry)
    progress.at(0.1, "Shaping the ground")
    _, made, level = pad_design(settings, surface, area, progress.part(0.1, 0.7))
    progress.at(0.7, "Adding up")
    around = float(surface.frame.lengths(rings_of(area)).sum())
    first = Finding(_LEVEL, level, surface.unit)
    findings = [first, *findings_of(settings, made, around)]
    said = ["The outlines are one pad, at one level."] if len(areas) > 1 else []

    return design_outcome(settings, inputs, made, areas.geometry, findings, said)


def _label(settings: PadSettings, names: Mapping[str, str]) -> str:
    where = "balanced" if settings.lies == "balanced" else f"at {settings.level or 0:g}"
    return f"Pad on {names['surface']}, {where}"


pad = design_kind(
    kind="pad",
    example="area=areas.gpkg cut_slope=1 fill_slope=1.5",
    title="Pad",
    question="What does it take to make level ground here?",
    help=(
        "Side slopes run to where they meet the ground. It lies at a level, or where cut and fill balance."
    ),
    formula=(
        "edge ± d / n at right angles to the outline, up where the ground there lies above it, to where it "
        "first meets the ground; cut = Σ cell area × max(z − design, 0); fill = Σ cell area × "
        "max(design − z, 0)"
    ),
    words=(
        "platform", "building plot", "grading", "formation level", "levelling", "terrace", "batter", "bench",
        "hardstanding", "barn", "yard",
    ),
    inputs=(
        GROUND,
        InputSpec("area", "shapes", "Outline", "In place of one that is drawn.", True, shapes="areas"),
    ),
    settings=PadSettings,
    run=_pad,
    label=_label,
    staple=3,
)  # fmt: skip
