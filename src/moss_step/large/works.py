"""Which steps that look at a whole ground go tile by tile all the same."""

from __future__ import annotations

from collections.abc import Callable
from importlib import import_module
from typing import Any

from moss_step import large
from moss_step.large.whole import Fed, Whole
from moss_step.study.graph import Step

_FASTER = frozenset({
    "fill_depressions", "flow_directions", "flow_accumulation", "flow_length", "streams", "basins",
    "stream_basins", "catchment", "drain_height",
})  # fmt: skip
"""Works on water, which are done sooner in tiles than in one piece on a ground of many cells."""

ONCE = frozenset({"zone_statistics", "zone_classes"})
"""Works that go over a grid once, tile by tile without a margin: what they are fed need not lie anywhere."""

AS_WELL = frozenset({"interpolate", "grid_points", "survey_change"})
"""Works of steps that go through grids that are mapped as well, and give all that stands beside the main
result there.
"""


_WORKS = {
    "zone_statistics": "zones.measured_zones",
    "zone_classes": "zones.class_zones",
    "grid_points": "clouds.grid",
    "survey_change": "changes.changes",
    "cut_fill": "volumes.volumes",
    "fill_voids": "voids.without_voids",
    "fill_depressions": "water.works.filled",
    "flow_directions": "water.works.directions",
    "flow_accumulation": "water.works.accumulation",
    "flow_length": "water.drains.flow_length",
    "contours": "contours.contours",
    "polygonize": "class_areas.areas",
    "patches": "class_areas.patches",
    "blind_patches": "class_areas.blind_patches",
    "streams": "water.drains.streams",
    "basins": "water.basins.basins",
    "depressions": "water.lakes.depressions",
    "flow_path": "water.paths.flow_path",
    "stream_basins": "water.catchments.stream_basins",
    "catchment": "water.catchments.catchment",
    "drain_height": "water.drains.drain_height",
    "viewshed": "views.viewshed",
    "mast_height": "sight_heights.mast_height",
    "horizon_angle": "sight_heights.horizon_angle",
    "interpolate": "between.interpolate",
    "wetness": "water.works.wetness",
    "stream_power": "water.works.stream_power",
}
"""Of each kind of step where in this package that is which makes its work: it is loaded once it is wanted."""

OF_OTHERS = frozenset({"grid_points"})
"""Works of steps that may have no grid at all among their inputs."""

PARTS = frozenset({"cut_fill"})
"""Works that read no more of a grid than what lies around what was asked."""


def is_sooner(step: Step) -> bool:
    """Whether a step on a ground of many cells is done sooner in tiles: where water runs to one receiver.
    What is shared out goes over tiles again and again.
    """
    return step.kind in _FASTER and step.settings.get("method", "d8") == "d8"


def work_of(kind: str) -> Callable[[Fed, Any], Whole | None] | None:
    """What makes a work of the inputs and settings of a kind of step; it gives None where that cannot be done
    in tiles so. None for a kind that has no such way.
    """
    if kind not in _WORKS:
        return None
    module, _, name = _WORKS[kind].rpartition(".")
    make: Callable[[Fed, Any], Whole | None] = getattr(import_module(f"{large.__name__}.{module}"), name)
    return make
