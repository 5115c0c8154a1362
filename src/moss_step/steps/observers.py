"""Observers as steps about sight declare them: places, shared values, values of their own, and what blocks
the view.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import replace
from typing import Annotated, Any

import numpy as np
import shapely
from pydantic import AfterValidator

from moss_step.formats.vector import in_system
from moss_step.model.errors import AskedWronglyError
from moss_step.model.frame import Frame
from moss_step.model.progress import Progress
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.typed import as_whole
from moss_step.science.sight.observer import Observer, Sight, prepare_sight
from moss_step.science.sight.obstacles import with_shapes
from moss_step.steps.declare import Inputs, InputSpec, Settings, optional, setting
from moss_step.steps.fields import PointsField
from moss_step.steps.shape import ground

OBSERVERS = InputSpec(
    "observers",
    "shapes",
    "Observers from file",
    "Points or lines; columns such as height, target, reach are their own.",
    True,
)
OBSTACLES = InputSpec(
    "obstacles",
    "surface",
    "Obstacles",
    "A second surface, such as trees and buildings, that blocks the view.",
    True,
    more=True,
)
BARRIERS = InputSpec(
    "barriers",
    "shapes",
    "Standing shapes",
    "Walls, woods or houses that block the view; a column height is their own.",
    True,
    more=True,
)
BLOCKING = (OBSTACLES, BARRIERS)
_OWN = {
    "height": ("height", "observer_height"),
    "target": ("target", "target_height"),
    "reach": ("reach",),
    "near": ("near",),
    "bearing_from": ("bearing_from",),
    "bearing_to": ("bearing_to",),
    "down": ("down",),
    "up": ("up",),
}
MOST_OBSERVERS = 100_000
"""How many can be looked from in one step."""
OWN_WORDS = ("name", *_OWN)
"""What an observer may have of its own, beside being off."""


def own_values(text: str | None) -> dict[int, dict[str, str | float]]:
    """Values of their own by the number of the observer, from ``2: height=20, name=North mast; 3: off``.

    ``off`` is 1.0 for observers that are left out. Raises ValueError that says what is wrong.
    """
    result: dict[int, dict[str, str | float]] = {}
    for part in (p.strip() for p in (text or "").split(";") if p.strip()):
        before, _, rest = part.partition(":")
        number = as_whole(before)
        if number is None or not rest.strip():
            raise ValueError(f"values such as 2: height=20, reach=500; 3: off, and '{part[:40]}' is none")
        own = result.setdefault(number, {})
        for pair in (v.strip() for v in rest.split(",")):
            word, _, value = (v.strip() for v in pair.partition("="))
            if pair == "off":
                own["off"] = 1.0
            elif word == "name" and value:
                own["name"] = value
            elif word in _OWN and _is_number(value):
                own[word] = float(value)
            else:
                raise ValueError(
                    f"one of {', '.join(OWN_WORDS)} with a value, or off, and '{pair[:40]}' is none"
                )
    return result


def own_text(own: Mapping[int, Mapping[str, str | float]]) -> str:
    """Write values of their own as ``own_values`` reads them."""
    parts = []
    for number, values in sorted(own.items()):
        said = [
            "off" if word == "off" else f"{word}={value if isinstance(value, str) else f'{value:.12g}'}"
            for word, value in values.items()
        ]
        if said:
            parts.append(f"{number}: {', '.join(said)}")
    return "; ".join(parts)


def _is_number(text: str) -> bool:
    try:
        return math.isfinite(float(text))
    except ValueError:
        return False


def _checked_own(text: str) -> str:
    own_values(text)
    return text


OwnField = Annotated[str, AfterValidator(_checked_own)]
"""Values of single observers, as ``own_values`` reads them."""


REFRACTION = setting(
    0.13,
    "Refraction",
    "Coefficient by which the air bends the ray back.",
    when={"curvature": (True,)},
    ge=-1,
    le=0.9,
    more=True,
)
BARRIER_HEIGHT = setting(
    10.0,
    "Standing shapes above ground",
    "Of those without a height of their own.",
    unit="m",
    with_input="barriers",
    ge=0,
    le=1000,
    more=True,
)


class SightSettings(Settings):
    """Settings that all views share."""

    at: PointsField | None = setting(
        None,
        "Observers",
        "Click on the plan; drag one to move it. [[Or x,y;x,y.]]",
        control="points",
        without_input="observers",
    )
    observer_height: float = setting(
        1.7, "Observer above ground", "Height of the eye, or of the mast.", unit="m", ge=-1000, le=100_000
    )
    target_height: float = setting(
        0.0, "Target above ground", "Height of what is looked at.", unit="m", ge=0, le=10_000
    )
    own: OwnField | None = setting(
        None,
        "Each observer",
        "[[As 2: height=20, name=North; 3: off.]] A field emptied is shared again.",
        control="observers",
    )
    reach: float | None = setting(
        None, "Reach", "Farthest distance in metres; the whole ground when left out."
    )
    near: float = setting(
        0.0, "Nearest distance", "What is nearer is not asked for.", unit="m", ge=0, more=True
    )
    bearing_from: float = setting(
        0.0,
        "Bearing from",
        "Clockwise from the grid's north.",
        unit="°",
        ge=0,
        le=360,
        more=True,
    )
    bearing_to: float = setting(
        360.0,
        "Bearing to",
        "Clockwise to here; equal to the first it is the full circle.",
        unit="°",
        ge=0,
        le=360,
        more=True,
    )
    down: float = setting(-90.0, "Lowest angle", "From the level.", unit="°", ge=-90, le=90, more=True)
    up: float = setting(90.0, "Highest angle", "From the level.", unit="°", ge=-90, le=90, more=True)
    absolute: bool = setting(
        False, "Heights of observers above the datum", "Not above the ground.", more=True
    )
    curvature: bool = setting(True, "Earth curvature", "The ground falls away with distance.", more=True)
    refraction: float = REFRACTION
    barrier_height: float = BARRIER_HEIGHT


def blocking(barrier_height: float, inputs: Inputs) -> Surface | None:
    """The surface that blocks the view, when one is given or shapes stand on the ground."""
    surface, shapes, dem = (
        optional(inputs, "obstacles", Surface),
        optional(inputs, "barriers", Shapes),
        ground(inputs),
    )
    if shapes is None:
        return surface
    heights = _own_heights(shapes)
    return with_shapes(
        dem, surface, in_system(shapes, dem.frame.crs), np.where(np.isnan(heights), barrier_height, heights)
    )


def _own_heights(shapes: Shapes) -> np.ndarray:
    """Heights in metres that shapes have of their own; NaN for none."""
    own = next(
        (
            v
            for n, v in shapes.columns.items()
            if n.lower() in ("height", "height_m") and v.dtype.kind in "iuf"
        ),
        None,
    )
    return np.full(len(shapes), np.nan) if own is None else np.asarray(own, float)


def standing(barrier_height: float, inputs: Inputs) -> tuple[str, ...]:
    """Say how high shapes stand that have no height of their own."""
    shapes = optional(inputs, "barriers", Shapes)
    without = int(np.isnan(_own_heights(shapes)).sum()) if shapes is not None else 0
    return (
        (
            f"{without:,} standing shapes have no height of their own, and stand {barrier_height:g} m "
            "above the ground.",
        )
        if without
        else ()
    )


def sight_of(settings: SightSettings, inputs: Inputs, progress: Progress) -> Sight:
    """The ground made ready for a step's settings and inputs."""
    progress.at(0.02, "Preparing the ground")
    return prepare_sight(
        ground(inputs), blocking(settings.barrier_height, inputs), settings.curvature, settings.refraction
    )


def stated(settings: SightSettings, inputs: Inputs) -> tuple[str, ...]:
    """What of the earth and the air counts, and how high standing shapes are taken."""
    walls = standing(settings.barrier_height, inputs)
    if not settings.curvature:
        return ("The earth is taken as flat: curvature is off.", *walls)
    return (f"Earth curvature with a refraction coefficient of {settings.refraction:g}.", *walls)


def sentence(settings: SightSettings) -> str:
    """Say in words what is asked."""
    eye = "a person" if settings.observer_height < 3 else "a mast"
    what = (
        "the ground" if settings.target_height == 0 else f"the top of a {settings.target_height:g} m target"
    )
    return f"Where {eye} of {settings.observer_height:g} m could see {what}."


def observers_of(settings: SightSettings, inputs: Inputs, frame: Frame) -> list[Observer]:
    """The observers that are on. Raises AskedWronglyError when there is none, or an own value is for one that
    is not there.
    """
    result, own = all_observers(settings, inputs, frame), own_values(settings.own)
    idle = {"target_height": "target", "down": "down", "up": "up"}
    for word in (idle[n] for n in settings.unlisted if n in idle):
        if any(word in values for values in own.values()):
            raise AskedWronglyError(
                f"`{word}` of an observer counts for nothing here.",
                f"Leave `{word}` out of its own settings.",
            )
    if missing := [n for n in own if not 1 <= n <= len(result)]:
        raise AskedWronglyError(
            f"There is no observer {missing[0]}.", f"There are observers 1 to {len(result)}."
        )
    left = [o for k, o in enumerate(result, start=1) if "off" not in own.get(k, {})]
    if not left:
        raise AskedWronglyError(
            "There is no observer.",
            "Click on the plan, or switch one on.",
            "Give observers=x,y or observers=FILE.",
        )
    return left


def all_observers(settings: SightSettings, inputs: Inputs, frame: Frame) -> list[Observer]:
    """The observers of the settings, or of shapes, with the values of their own, those that are off
    included.
    """
    shared = Observer(
        0,
        0,
        "",
        settings.observer_height,
        settings.target_height,
        settings.absolute,
        settings.near,
        math.inf if settings.reach is None else settings.reach,
        settings.bearing_from,
        settings.bearing_to,
        settings.down,
        settings.up,
    )
    shapes = optional(inputs, "observers", Shapes)
    if shapes is not None:
        result = _of_shapes(in_system(shapes, frame.crs), shared, 4.0 * max(frame.dx, frame.dy))
    else:
        result = [
            replace(shared, x=x, y=y, name=f"observer {k + 1}") for k, (x, y) in enumerate(settings.at or ())
        ]
    for number, own in own_values(settings.own).items():
        if 1 <= number <= len(result):
            values: dict[str, Any] = {word: value for word, value in own.items() if word != "off"}
            result[number - 1] = replace(result[number - 1], **values)
    return result


def check_count(count: float) -> None:
    """Raise AskedWronglyError for more observers than can be looked from."""
    if not count <= MOST_OBSERVERS:
        raise AskedWronglyError(
            f"{count:,.0f} observers are more than the {MOST_OBSERVERS:,} that can be looked from.",
            "Choose fewer of them.",
        )


def _of_shapes(shapes: Shapes, shared: Observer, spacing: float) -> list[Observer]:
    """Points with the values of their columns; lines become points so far apart."""
    if shapes.kind == "lines":
        check_count(float(shapely.length(shapes.geometry).sum()) / spacing + len(shapes))
        xy = np.vstack([shapely.get_coordinates(shapely.segmentize(g, spacing)) for g in shapes.geometry])
        return [replace(shared, x=float(x), y=float(y), name=f"point {k + 1}") for k, (x, y) in enumerate(xy)]
    check_count(len(shapes))
    names, columns = shapes.names(), {c.lower(): v for c, v in shapes.columns.items()}
    result = []
    for k, point in enumerate(shapely.centroid(shapes.geometry)):
        own: dict[str, Any] = {}
        for field, words in _OWN.items():
            column = next(
                (columns[w] for w in words if w in columns and columns[w].dtype.kind in "iuf"), None
            )
            if column is not None and np.isfinite(float(column[k])):
                own[field] = float(column[k])
        here = replace(shared, x=float(point.x), y=float(point.y), name=names[k] or f"observer {k + 1}")
        result.append(replace(here, **own))
    return result
