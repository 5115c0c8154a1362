"""Panels of pads, roads and bunds: their outline, line, level and grade are pulled, and volumes follow."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
import shapely

from moss_step.desk.benches.live_volumes import LivePanel, moved_veil, volumes_said
from moss_step.desk.plan.live import Live, Preview
from moss_step.model.outcome import Value
from moss_step.model.surface import Surface
from moss_step.model.telling import Telling
from moss_step.model.typed import as_kind
from moss_step.science.earthwork.works import Built
from moss_step.steps.bunds import BundSettings, built_bund
from moss_step.steps.declare import Settings
from moss_step.steps.designs import findings_of
from moss_step.steps.pads import PadSettings, pad_design
from moss_step.steps.roads import RoadSettings, built_road

Builder = Callable[[Any, Surface, np.ndarray], tuple[float, Built]]
_GRADES = (-20.0, 20.0)
"""Percent that the slider of a grade runs over."""


class DesignPanel(LivePanel):
    """Shapes the ground as what is drawn is pulled."""

    build_one: Builder

    def spans(self, surface: Surface) -> dict[str, tuple[float, float]]:
        """Heights around what is drawn, and grades."""
        heights = super().spans(surface)["level"]
        return {n: _GRADES if n == "grade" else heights for n in self.sliders}

    def question(self, value: Value, corners: np.ndarray, settings: Settings, telling: Telling) -> Any:
        """What it takes to build it."""
        surface, builder = as_kind(value, Surface), type(self).build_one
        return lambda: _built_preview(builder, settings, surface, corners, telling)


def _built_preview(
    builder: Builder, settings: Settings, surface: Surface, corners: np.ndarray, telling: Telling
) -> Preview:
    level, made = builder(settings, surface, corners)
    frame = surface.frame.part(made.rows, made.cols)
    veil = moved_veil(Surface(-made.change, frame, surface.unit))
    said = f"{volumes_said(made.moved)} · at {telling.value(level, surface.unit)}"
    return Preview(said, Live((), veil), tuple(findings_of(settings, made, float("nan"))))


def _pad(settings: PadSettings, surface: Surface, corners: np.ndarray) -> tuple[float, Built]:
    _, made, level = pad_design(settings, surface, shapely.Polygon(corners))
    return level, made


def _road(settings: RoadSettings, surface: Surface, corners: np.ndarray) -> tuple[float, Built]:
    design, made = built_road(settings, surface, corners)
    return design.level / surface.metres_per_height, made


def _bund(settings: BundSettings, surface: Surface, corners: np.ndarray) -> tuple[float, Built]:
    _, made, crest = built_bund(settings, surface, [corners])
    return crest, made


class PadPanel(DesignPanel):
    """A pad by its outline and level."""

    build_one = staticmethod(_pad)


class RoadPanel(DesignPanel):
    """A road by its line, level and grade."""

    build_one = staticmethod(_road)


class BundPanel(DesignPanel):
    """A bund by its line and crest."""

    build_one = staticmethod(_bund)
