"""The step that says how far the ground faces a bearing."""

from __future__ import annotations

import numpy as np

from moss_step.model.findings import MAIN, Finding, declared
from moss_step.model.outcome import Outcome
from moss_step.model.progress import Progress
from moss_step.model.surface import Surface
from moss_step.model.units import SHARE
from moss_step.science.relief.exposure import Weigh
from moss_step.science.relief.exposure import exposure as derive_exposure
from moss_step.steps.declare import Inputs, Settings, StepKind, setting
from moss_step.steps.reach import NEIGHBOURS
from moss_step.steps.results import surface_outcome
from moss_step.steps.shape import DEM, EDGES, GRID_NORTH, ground

_TOWARDS = declared("share_towards", "Share that faces it", MAIN)


class ExposureSettings(Settings):
    """Settings of exposure."""

    bearing: float = setting(
        0.0, "Towards", "0 is north, 90 east: clockwise from grid north.", unit="°", ge=0, le=360
    )
    weigh: Weigh = setting(
        "facing",
        "Counts",
        "`facing`: the way the ground faces alone; `slope`: gentle ground counts little.",
        more=True,
    )


def _exposure(settings: ExposureSettings, inputs: Inputs, progress: Progress) -> Outcome:
    return _told(settings, derive_exposure(ground(inputs), settings.bearing, settings.weigh, progress))


def _told(_: ExposureSettings, result: Surface) -> Outcome:
    outcome = surface_outcome(result, (EDGES, GRID_NORTH))
    towards = float(np.count_nonzero(result.values > 0)) / max(result.valid_count, 1)
    return Outcome(
        result,
        f"{towards:.0%} faces it",
        (Finding(_TOWARDS, towards, SHARE), *outcome.findings),
        outcome.warnings,
    )


exposure = StepKind(
    kind="exposure",
    bench="shape",
    group="Steepness and direction",
    title="Exposure",
    question="How far does the ground face a bearing?",
    help=(
        "Cosine of the angle between the aspect and a bearing, from -1 to 1, or that times the sine of "
        "the slope."
    ),
    formula="facing = cos(aspect − bearing); with the slope cos(aspect − bearing) × sin(slope)",
    words=("northness", "eastness", "windward", "leeward", "facing", "heat load", "aspect transformation"),
    inputs=(DEM,),
    settings=ExposureSettings,
    gives="surface",
    run=_exposure,
    tells=_told,
    reach=NEIGHBOURS,
    memory=16,
    label=lambda s, names: f"Exposure to {s.bearing:g}°, of {names['dem']}",
)
