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
        Planned("lines", "contours", {"dem": "bed"}, {"interval": settings.interval, "index_every": 2}),
        Planned("held", "storage", {"surface": "bed", "tin": "tin"}, {"level": settings.level}),
    )


def _memory(settings: LakeSettings, inputs: Inputs) -> float:
    """Bytes: covariances of all pairs, triangles, and some arrays of cells."""
    count = int(shapely.get_num_coordinates(as_kind(inputs["points"], Shapes).geometry).sum()) + 600
    return BYTES_A_PAIR * min(count, ALL_AT_ONCE) ** 2 + 2000.0 * count + 2e8


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
    words=("bathymetry", "lake volume", "soundings", "tarn", "reservoir survey", "depth contours", "pond"),
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
    look={"ramp": "water"},
    staple=4,
)  # fmt: skip
