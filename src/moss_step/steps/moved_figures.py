"""Figures of earthwork that several steps tell: volumes, areas and depths, with factors, mass and cost."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from moss_step.model.findings import ASIDE, MAIN, USUAL, Finding, declared
from moss_step.model.units import CUBIC_METRE, METRE, NONE, SQUARE_METRE, TONNE
from moss_step.science.earthwork.outline import Moved
from moss_step.steps.declare import Settings, setting

CUT = declared("cut", "Cut", MAIN)
FILL = declared("fill", "Fill", MAIN)
NET = declared("net", "Net", MAIN)
_RATIO = declared("ratio", "Cut over fill", USUAL)
_AREA = declared("area", "Area on the plan", USUAL)
_GROUND = declared("surface_area", "Area on the ground", USUAL)
_PERIMETER = declared("perimeter", "Perimeter", USUAL)
_CUT_AREA = declared("cut_area", "Area of cut", USUAL)
_FILL_AREA = declared("fill_area", "Area of fill", USUAL)
_MEAN_CUT = declared("mean_cut", "Mean depth of cut", USUAL)
_MEAN_FILL = declared("mean_fill", "Mean depth of fill", USUAL)
_DEEPEST_CUT = declared("deepest_cut", "Deepest cut", USUAL)
_DEEPEST_FILL = declared("deepest_fill", "Deepest fill", USUAL)
_UNMEASURED = declared("unmeasured", "Not measured", USUAL)
_LOOSE = declared("loose_cut", "Cut, loosened", ASIDE)
_NEEDED = declared("needed_fill", "Ground that the fill needs", ASIDE)
_LEFT = declared("left_over", "Left over, or missing", ASIDE)
_MASS = declared("mass", "Mass of the cut", ASIDE)
_COST = declared("cost", "Cost", ASIDE)
PRICES = ("swell", "shrink", "density", "cost")
"""Settings that figures are reckoned on with."""


def swell() -> Any:
    """Loose volume over that in the ground."""
    return setting(
        1.0, "Swell", "Loose volume of what is cut, over its volume in the ground.", ge=0.5, le=3, more=True
    )


def shrink(more: bool = True) -> Any:
    """Compacted volume over that in the ground."""
    return setting(
        1.0, "Shrink", "Volume of fill once compacted, over its volume in the ground: cut times it is fill.",
        ge=0.3, le=1.5, more=more,
    )  # fmt: skip


def density() -> Any:
    """Mass of a cubic metre in the ground."""
    return setting(
        None, "Density", "Tonnes a cubic metre in the ground.", unit="t/m³", gt=0, le=25, more=True
    )


def cost() -> Any:
    """Price of a cubic metre."""
    return setting(
        None, "Cost a cubic metre", "Of what is moved: the larger of cut and fill.", ge=0, more=True
    )


def volumes(moved: Sequence[Moved]) -> list[Finding]:
    """Cut, fill and net of all together."""
    cut, fill = sum(m.cut for m in moved), sum(m.fill for m in moved)
    return [
        Finding(CUT, cut, CUBIC_METRE), Finding(FILL, fill, CUBIC_METRE),
        Finding(NET, cut - fill, CUBIC_METRE),
    ]  # fmt: skip


def extents(moved: Sequence[Moved], ground_area: float, perimeter: float) -> list[Finding]:
    """Ratio, areas and depths of all together; what is not known is left out."""
    cut, fill = sum(m.cut for m in moved), sum(m.fill for m in moved)
    cut_area, fill_area = sum(m.cut_area for m in moved), sum(m.fill_area for m in moved)
    nan = float("nan")
    found = [
        Finding(_RATIO, cut / fill if fill > 0 else nan, NONE),
        Finding(_AREA, sum(m.area for m in moved), SQUARE_METRE),
        Finding(_GROUND, ground_area, SQUARE_METRE), Finding(_PERIMETER, perimeter, METRE),
        Finding(_CUT_AREA, cut_area, SQUARE_METRE), Finding(_FILL_AREA, fill_area, SQUARE_METRE),
        Finding(_MEAN_CUT, cut / cut_area if cut_area > 0 else nan, METRE),
        Finding(_MEAN_FILL, fill / fill_area if fill_area > 0 else nan, METRE),
        Finding(_DEEPEST_CUT, max(m.deepest_cut for m in moved), METRE),
        Finding(_DEEPEST_FILL, max(m.deepest_fill for m in moved), METRE),
        Finding(_UNMEASURED, sum(m.unmeasured for m in moved), SQUARE_METRE),
    ]  # fmt: skip
    return [f for f in found if not np.isnan(f.value)]


def priced(settings: Settings, moved: Sequence[Moved]) -> list[Finding]:
    """What swell, shrink, density and cost say of the volumes, where they are stated."""
    cut, fill = sum(m.cut for m in moved), sum(m.fill for m in moved)
    swells, shrinks, heavy, price = (getattr(settings, n, None) for n in PRICES)
    found: list[Finding] = []
    if (swells, shrinks) != (1.0, 1.0):
        needed = fill / (shrinks or 1.0)
        found += [
            Finding(_LOOSE, cut * (swells or 1.0), CUBIC_METRE), Finding(_NEEDED, needed, CUBIC_METRE),
            Finding(_LEFT, cut - needed, CUBIC_METRE),
        ]  # fmt: skip
    if heavy is not None:
        found.append(Finding(_MASS, cut * heavy, TONNE))
    if price is not None:
        found.append(Finding(_COST, max(cut, fill) * price, NONE))
    return found
