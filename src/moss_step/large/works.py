"""Which steps that look at a whole ground go tile by tile all the same."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from importlib import import_module
from typing import Any

from moss_step import large
from moss_step.large.whole import Fed, Whole
from moss_step.study.graph import Step


@dataclass(frozen=True)
class Way:
    """How a kind of step goes in tiles: where in this package that is which makes its work, which is loaded
    once it is wanted; empty for a kind that has no such way.
    """

    make: str = ""
    sooner: bool = False
    """Done sooner so than in one piece on a ground of many cells: water."""
    once: bool = False
    """Goes over a grid once, tile by tile without a margin: what it is fed need not lie anywhere."""
    as_well: bool = False
    """The step goes through mapped grids as well, and gives all that stands beside its result there."""
    gridless: bool = False
    """There may be no grid at all among the inputs."""
    partly: bool = False
    """Reads no more of a grid than what lies around what was asked."""


_WAYS = {
    "zone_statistics": Way("zones.measured_zones", once=True),
    "zone_classes": Way("zones.class_zones", once=True),
    "grid_points": Way("clouds.grid", as_well=True, gridless=True),
    "survey_change": Way("changes.changes", as_well=True),
    "cut_fill": Way("volumes.volumes", partly=True),
    "fill_voids": Way("voids.without_voids"),
    "fill_depressions": Way("water.works.filled", sooner=True),
    "flow_directions": Way("water.works.directions", sooner=True),
    "flow_accumulation": Way("water.works.accumulation", sooner=True),
    "flow_length": Way("water.drains.flow_length", sooner=True),
    "contours": Way("contours.contours"),
    "polygonize": Way("class_areas.areas"),
    "patches": Way("class_areas.patches"),
    "blind_patches": Way("class_areas.blind_patches"),
    "streams": Way("water.drains.streams", sooner=True),
    "basins": Way("water.basins.basins", sooner=True),
    "depressions": Way("water.lakes.depressions"),
    "flow_path": Way("water.paths.flow_path"),
    "stream_basins": Way("water.catchments.stream_basins", sooner=True),
    "catchment": Way("water.catchments.catchment", sooner=True),
    "drain_height": Way("water.drains.drain_height", sooner=True),
    "viewshed": Way("views.viewshed"),
    "mast_height": Way("sight_heights.mast_height"),
    "horizon_angle": Way("sight_heights.horizon_angle"),
    "interpolate": Way("between.interpolate", as_well=True),
    "wetness": Way("water.works.wetness"),
    "stream_power": Way("water.works.stream_power"),
}


def way_of(kind: str) -> Way:
    """How a kind of step goes in tiles."""
    return _WAYS.get(kind, Way())


def is_sooner(step: Step) -> bool:
    """Whether a step on a ground of many cells is done sooner in tiles: where water runs to one receiver.
    What is shared out goes over tiles again and again.
    """
    return way_of(step.kind).sooner and step.settings.get("method", "d8") == "d8"


def work_of(kind: str) -> Callable[[Fed, Any], Whole | None] | None:
    """What makes a work of the inputs and settings of a kind of step; it gives None where that cannot be done
    in tiles so. None for a kind that has no such way.
    """
    module, _, name = way_of(kind).make.rpartition(".")
    if not module:
        return None
    make: Callable[[Fed, Any], Whole | None] = getattr(import_module(f"{large.__name__}.{module}"), name)
    return make
