"""Earthwork: the level at which cut and fill balance, and both by level."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

import numpy as np
import shapely

from moss_step.model.chart import Chart
from moss_step.model.findings import MAIN, Finding, declared
from moss_step.model.frame import Box
from moss_step.model.origin import Given, origins_of
from moss_step.model.outcome import Outcome, Value
from moss_step.model.progress import Progress
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.typed import as_kind
from moss_step.model.units import CUBIC_METRE
from moss_step.model.words import value_text
from moss_step.science.earthwork.balance import ByLevel
from moss_step.science.earthwork.outline import Outline
from moss_step.steps.cut_fill import CutFillSettings, cut_fill, looks_in, outlines_of
from moss_step.steps.declare import Inputs, InputSpec, ResultSpec, Settings, StepKind, setting
from moss_step.steps.fields import PointsField
from moss_step.steps.moved_figures import shrink, swell

_LEVEL = declared("balance_level", "Level that balances", MAIN)


class BalanceSettings(Settings):
    """Settings of balance."""

    outline: PointsField | None = setting(
        None, "Outline", "Its corners[[: x,y;x,y;x,y]].", control="outline", without_input="area", more=True
    )
    shrink: float = shrink(more=False)
    swell: float = swell()


def _balance(settings: BalanceSettings, inputs: Inputs, progress: Progress) -> Outcome:
    surface = as_kind(inputs["surface"], Surface)
    asked = CutFillSettings(outline=settings.outline, shrink=settings.shrink, swell=settings.swell)
    areas = outlines_of(asked, inputs, surface.frame.crs)
    whole = shapely.union_all(areas.geometry)
    progress.at(0.1, "Looking for the level")
    by_level = ByLevel(surface.values, Outline(surface.frame, whole))
    level = by_level.balanced(settings.shrink)
    together = Shapes(np.array([whole], object), {}, surface.frame.crs)
    reckoned = asked.model_copy(update={"against": "level", "level": level, "outline": None})
    given = Given({"surface": surface, "area": together}, origins_of(inputs))
    outcome = cut_fill.run(reckoned, given, progress.part(0.4, 1.0))
    findings = (Finding(_LEVEL, level, surface.unit), *outcome.findings)

    def curve() -> Outcome:
        metres, (levels, cut, fill) = surface.metres_per_height, by_level.curve()
        at = int(np.searchsorted(levels, level))
        levels = np.insert(levels, at, level)
        cut, fill = (
            np.insert(v, at, f.value / metres)
            for v, f in ((cut, outcome.findings[0]), (fill, outcome.findings[1]))
        )
        here = np.where(np.arange(len(levels)) == at, fill * metres, np.nan)
        columns = {"stage": levels, "cut_m3": cut * metres, "fill_m3": fill * metres, "balance_m3": here}
        units = {
            "stage": surface.unit,
            "cut_m3": CUBIC_METRE,
            "fill_m3": CUBIC_METRE,
            "balance_m3": CUBIC_METRE,
        }
        drawn = ("cut_m3", "fill_m3", "balance_m3")
        return Outcome(Chart(columns, units, "stage", drawn, dots=drawn[2:]), "by level", findings)

    return replace(
        outcome,
        figure=f"at {value_text(level, surface.unit)}",
        findings=findings,
        beside={"curve": curve, **{n: outcome.beside[n] for n in ("outlines", "record")}},
    )


def _looks_in(settings: BalanceSettings, inputs: Mapping[str, Value], crs: str | None) -> Box | None:
    """The box of the outlines."""
    return looks_in(CutFillSettings(outline=settings.outline), inputs, crs)


balance = StepKind(
    kind="balance",
    example="area=areas.gpkg shrink=0.9",
    bench="earthwork",
    group="Volumes",
    title="Balance cut and fill",
    question="At which level do cut and fill balance?",
    help=(
        "The level at which what is cut inside an outline, once compacted, is what is filled; exact for the "
        "cells as they are. Beside it cut and fill at any level."
    ),
    formula="shrink × Σ share × area × max(z − L, 0) = Σ share × area × max(L − z, 0), solved for L",
    words=("balance", "formation level", "earthworks balance", "pad level", "mass balance", "grading"),
    inputs=(
        InputSpec("surface", "surface", "Ground", "A grid of heights.", quantity="elevation"),
        InputSpec("area", "shapes", "Outlines", "In place of one that is drawn.", True, shapes="areas"),
    ),
    settings=BalanceSettings,
    gives="surface",
    run=_balance,
    maps=True,
    around=_looks_in,
    memory=lambda s, inputs: 60.0 * as_kind(inputs["surface"], Surface).values.size + 1e6,
    label=lambda s, names: f"Balance of {names['surface']}",
    look={"ramp": "earth", "centre": 0.0},
    main="Depth of cut and fill",
    records=True,
    beside=(
        ResultSpec("curve", "chart", "By level", "Cut and fill at each level."),
        *(r for r in cut_fill.beside if r.name in ("outlines", "record")),
    ),
    staple=2,
)  # fmt: skip
