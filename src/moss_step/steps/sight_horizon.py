"""Where the sky begins around an observer."""

from __future__ import annotations

import math

import numpy as np
import shapely

from moss_step.model.chart import Chart
from moss_step.model.errors import MossError
from moss_step.model.findings import Finding
from moss_step.model.outcome import Outcome
from moss_step.model.progress import Progress
from moss_step.model.shapes import Shapes
from moss_step.model.units import ANGLE, METRE
from moss_step.science.sight.kernels.rays import Reach, Stand, horizon_of
from moss_step.science.sight.line import runs_of
from moss_step.science.sight.observer import place_of, within_bearings
from moss_step.steps.declare import Inputs, ResultSpec, StepKind, setting
from moss_step.steps.observers import BLOCKING, OBSERVERS, SightSettings, observers_of, sight_of, stated
from moss_step.steps.reach import RAYS
from moss_step.steps.shape import DEM, ground


class HorizonSettings(SightSettings):
    """Settings of horizon: nothing but the ground is looked at."""

    unlisted = ("target_height", "down", "up")
    bearings: int = setting(360, "Bearings", "How many, evenly around.", ge=4, le=7200, more=True)


def _around(settings: HorizonSettings, inputs: Inputs, progress: Progress) -> dict[str, np.ndarray]:
    """Bearing, angle, distance and place of the horizon around the first observer; NaN where there is no
    ground.

    Raises MossError when there is none anywhere.
    """
    sight = sight_of(settings, inputs, progress)
    observer = observers_of(settings, inputs, sight.frame)[0]
    cell, eye = place_of(sight, observer)
    bearings = np.arange(settings.bearings) * (360.0 / settings.bearings)
    bearings = bearings[within_bearings(bearings, observer)]
    rise, distance = np.empty(len(bearings)), np.empty(len(bearings))
    wide, high = (float(v) for v in sight.sizes[cell[0]])
    reach = Reach(observer.near, observer.reach if math.isfinite(observer.reach) else 1e9)
    stand = Stand(*cell, eye, sight.bend, wide, high)
    horizon_of(sight.top, stand, np.radians(bearings), reach, rise, distance)
    angles = np.degrees(np.arctan(np.where(np.isfinite(rise), rise, np.nan)))
    if not np.isfinite(angles).any():
        raise MossError("There is no ground around the observer.", "Move it, or let it look farther.")
    x = sight.frame.x_of(cell[1]) + distance * np.sin(np.radians(bearings)) / wide * sight.frame.dx
    y = sight.frame.y_of(cell[0]) + distance * np.cos(np.radians(bearings)) / high * sight.frame.dy
    return {"bearing": bearings, "angle": angles, "distance": distance, "x": x, "y": y}


def _horizon(settings: HorizonSettings, inputs: Inputs, progress: Progress) -> Outcome:
    columns = _around(settings, inputs, progress)
    crs, units = ground(inputs).frame.crs, {"bearing": ANGLE, "angle": ANGLE, "distance": METRE}
    line = Chart(columns, units, "bearing", ("angle",), crs=crs)
    lowest, highest = float(np.nanmin(columns["angle"])), float(np.nanmax(columns["angle"]))
    findings = (Finding("highest_angle", highest, ANGLE), Finding("lowest_angle", lowest, ANGLE),
             Finding("farthest", float(np.nanmax(columns["distance"])), METRE))  # fmt: skip
    figure, said = f"up to {highest:.1f}°", stated(settings, inputs)
    return Outcome(
        line,
        figure,
        findings,
        said,
        {"skyline": lambda: Outcome(_on_ground(settings, columns, crs), figure, findings[2:], said)},
    )


horizon = StepKind(
    kind="horizon",
    example="observers=413000,5871000",
    bench="sight",
    group="How high",
    title="Horizon",
    question="Where does the sky begin around an observer?",
    help="Angle and distance of the horizon on every bearing around the first observer.",
    formula="angle(bearing) = max over d of atan((z(d) − d² (1 − k) / 2R − z_eye) / d)",
    words=("skyline", "horizon line", "horizon angle", "elevation angle", "panorama", "view limit"),
    inputs=(DEM, OBSERVERS, *BLOCKING),
    settings=HorizonSettings,
    gives="chart",
    run=_horizon,
    retired=("target_height", "down", "up"),
    reach=RAYS,
    memory=3,
    label=lambda s, names: f"Horizon in {names['dem']}",
    main="Bearings",
    beside=(
        ResultSpec(
            "skyline",
            "shapes",
            "Skyline",
            "A line over the places that the sky begins behind.",
            was="horizon_line",
        ),
    ),
)


def _on_ground(settings: HorizonSettings, columns: dict[str, np.ndarray], crs: str | None) -> Shapes:
    """The line over the places of a horizon, in pieces where there is ground; raises MossError when there is
    no line.
    """
    xy = np.stack([columns["x"], columns["y"]], axis=1)
    known = np.isfinite(columns["angle"])
    if (
        known.all() and len(known) < settings.bearings
    ):  # a part of the circle, from its first bearing clockwise
        around = columns["bearing"]
        widest = int(np.argmax(np.diff(np.append(around, around[0] + 360.0))))
        order = np.roll(np.arange(len(around)), -widest - 1)
        runs = [order] if len(order) > 1 else []
    elif known.all():
        runs = [np.arange(len(xy) + 1) % len(xy)]
    else:  # begin at a gap, so that a stretch over north stays whole
        order = np.roll(np.arange(len(xy)), -int(np.flatnonzero(~known)[0]))
        runs = [order[a:b] for a, b in runs_of(known[order]) if b - a > 1]
    if not runs:
        raise MossError(
            "The horizon is seen on single bearings only.", "Ask for more bearings, or move the observer."
        )
    lines = np.array([shapely.LineString(xy[r]) for r in runs], object)
    angles = [columns["angle"][r] for r in runs]
    result = {"highest": np.array([a.max() for a in angles]), "lowest": np.array([a.min() for a in angles]),
            "farthest_m": np.array([columns["distance"][r].max() for r in runs])}  # fmt: skip
    return Shapes(lines, result, crs, {"highest": "°", "lowest": "°", "farthest_m": "m"})
