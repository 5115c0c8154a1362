"""Surface: what a lake holds, from its soundings and its shore, in one question."""

from __future__ import annotations

from collections.abc import Mapping

import shapely

from moss_step.model.shapes import Shapes
from moss_step.model.typed import as_kind
from moss_step.science.interpolate.kriging import ALL_AT_ONCE
from moss_step.science.interpolate.surfaces import Method
from moss_step.steps.declare import Inputs, InputSpec, Planned, Settings, StepKind, setting
from moss_step.steps.places import BYTES_A_PAIR
from moss_step.steps.recipes import run_plan

_CELLS_A_PLACE = 8.0
"""Cells for each sounding where the cell is half of the mean spacing, and the shore lies around."""


class LakeSettings(Settings):
    """Settings of lake_volume."""

    column: str = setting(
        "height", "Column of heights", "Heights of the bed; a table of depths has them as `height`."
    )
    level: float = setting(
        0.0, "Level of the water", "Height of the shore; 0 where depths count down from the water."
    )
    method: Method = setting(
        "kriging", "Method", "How the bed between the soundings is found, beside a TIN.", more=True
    )
    cell: float | None = setting(
        None, "Cell", "In units of the plan; left out, by the soundings.", gt=0, more=True
    )
    interval: float = setting(0.5, "Contours every", "In the unit of the heights.", gt=0)


def _lake_plan(settings: LakeSettings, names: Mapping[str, str]) -> tuple[Planned, ...]:
    known = {"column": settings.column, "edge_value": settings.level}
    cell = {} if settings.cell is None else {"cell": settings.cell}
    return (
        Planned(
            "bed",
            "interpolate",
            {"points": "points", "area": "area"},
            {**known, **cell, "method": settings.method},
        ),
        Planned("tin", "triangulate", {"points": "points", "area": "area"}, known),
        Planned(
            "lines",
            "contours",
            {"dem": "bed"},
            {"interval": settings.interval, "index_every": 2, "drawn": "by_depth"},
        ),
        Planned("held", "storage", {"surface": "bed", "tin": "tin"}, {"level": settings.level}),
    )


def _memory(settings: LakeSettings, inputs: Inputs) -> float:
    """Bytes: covariances of all pairs, triangles, and some arrays of cells."""
    count = int(shapely.get_num_coordinates(as_kind(inputs["points"], Shapes).geometry).sum())
    cells = _CELLS_A_PLACE * count
    box = as_kind(inputs["area"], Shapes).box
    if settings.cell is not None and box is not None:
        cells = (box[2] - box[0]) * (box[3] - box[1]) / settings.cell**2
    return BYTES_A_PAIR * min(count + 600, ALL_AT_ONCE) ** 2 * 0.25 + 700.0 * count + 150.0 * cells


lake_volume = StepKind(
    kind="lake_volume",
    example="points=checks.gpkg area=areas.gpkg column=z level=480 interval=5",
    bench="surface",
    group="Levels",
    title="What a lake holds",
    question="How much water does a lake hold, and how deep is it where?",
    help=(
        "The bed between soundings and shore by kriging and by a TIN, volume and area under the level by "
        "both, and contours. Kept as its four steps."
    ),
    words=("bathymetry", "lake volume", "soundings", "reservoir survey", "depth contours", "pond"),
    inputs=(
        InputSpec("points", "shapes", "Soundings", "Places with heights of the bed.", shapes="points"),
        InputSpec("area", "shapes", "Shore", "The outline of the water.", shapes="areas"),
    ),
    settings=LakeSettings,
    gives="surface",
    run=run_plan(_lake_plan),
    plan=_lake_plan,
    memory=_memory,
    label=lambda s, names: f"Water of {names['area']}",
    look={"ramp": "tarn"},
    staple=4,
)  # fmt: skip
