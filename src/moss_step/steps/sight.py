"""What observers see, how many and which of them see a place, how high a mast must stand, what is hidden."""

from __future__ import annotations

from collections.abc import Sequence
from functools import reduce
from operator import add
from typing import Literal

import numpy as np

from moss_step.model.class_map import NO_CLASS, ClassEntry, ClassMap
from moss_step.model.errors import MossError
from moss_step.model.findings import Finding
from moss_step.model.frame import check_same_frame
from moss_step.model.mapped import blocks_of, row_by_row
from moss_step.model.outcome import Outcome
from moss_step.model.progress import Progress
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.typed import as_kind
from moss_step.model.units import COUNT, SHARE, SQUARE_METRE
from moss_step.science.algebra.criteria import threshold as pass_threshold
from moss_step.science.classes.presets import colors_between
from moss_step.science.sight import heights, viewshed
from moss_step.science.sight.observer import Observer, Sight
from moss_step.science.zones import outlines
from moss_step.steps.declare import Inputs, InputSpec, Settings, StepKind, optional, setting
from moss_step.steps.observers import (
    BLOCKING,
    OBSERVERS,
    SightSettings,
    observers_of,
    sentence,
    sight_of,
    stated,
)
from moss_step.steps.reach import CELL, RAYS
from moss_step.steps.results import class_outcome, surface_outcome
from moss_step.steps.shape import DEM
from moss_step.steps.sight_weights import PartSeen, unweighted_remarks, weigh, weight_findings

TOLD = 254
"""Numbers of observers that are told apart."""


def _weighted(
    weights: Surface | None, sight: Sight, observers: list[Observer], seen: viewshed.Seen
) -> list[Finding]:
    """How much of a weight, such as people per cell, is seen: by any, by each number of observers, by each of
    up to 64.
    """
    if weights is None:
        return []
    check_same_frame(weights.frame, sight.frame, "The weights and the ground")
    each = len(observers) if seen.which is not None else 0
    parts = []
    for rows in blocks_of(seen.count.values, viewshed.FEW):
        some = (PartSeen(k, slice(None), seen.by(k, rows)) for k in range(each))
        parts.append(weigh(weights.values[rows], seen.count.values[rows], some, told_apart(observers), each))
    return weight_findings(reduce(add, parts), weights.unit, observers[:each])


def _viewshed(settings: SightSettings, inputs: Inputs, progress: Progress) -> Outcome:
    sight = sight_of(settings, inputs, progress)
    observers = observers_of(settings, inputs, sight.frame)
    seen = viewshed.viewshed(sight, observers, progress, telling="weights" in inputs)
    counted = viewshed.counted_areas(seen.count, told_apart(observers) + 1)
    weighed = _weighted(optional(inputs, "weights", Surface), sight, observers, seen)
    each = list(zip(seen.seen, seen.asked, seen.areas, strict=True))
    figure, findings = seen_told(observers, counted, sight.dem.valid_count, each, weighed)
    remarks = (
        sentence(settings), *stated(settings, inputs), *unweighted_remarks(inputs, sight.dem),
        *twice_told(observers),
    )  # fmt: skip
    return Outcome(seen.count, figure, findings, remarks)


def told_apart(observers: Sequence[Observer]) -> int:
    """Up to which number of observers it is told how much so many see."""
    return min(len(observers), TOLD)


def seen_told(
    observers: Sequence[Observer],
    counted: tuple[np.ndarray, np.ndarray],
    cells: int,
    each: Sequence[tuple[int, int, float]],
    weighed: Sequence[Finding] = (),
) -> tuple[str, tuple[Finding, ...]]:
    """The figure of a viewshed and its findings: cells and areas by number of observers, of so many cells
    that have a height; and cells seen and asked for and square metres of each observer.
    """
    numbers, areas = counted
    share = float(numbers[1:].sum()) / cells
    findings = [
        Finding("seen_area_m2", float(areas[1:].sum()), SQUARE_METRE),
        Finding("seen_share", share, SHARE),
        Finding("observers", len(observers), COUNT),
        *weighed,
    ]
    findings += [
        Finding("area_m2", float(areas[k]), SQUARE_METRE, f"seen by {k}")
        for k in range(told_apart(observers) + 1)
        if numbers[k]
    ]
    for observer, (seen, asked, area) in zip(observers, each, strict=True):
        findings += [
            Finding("share", seen / max(asked, 1), SHARE, observer.name),
            Finding("area_m2", area, SQUARE_METRE, observer.name),
        ]
    return f"{share:.1%} seen" if len(observers) == 1 else f"{share:.1%} seen by any", tuple(findings)


def twice_told(observers: Sequence[Observer]) -> tuple[str, ...]:
    """Say how many observers stand where another one stands."""
    twice = len(observers) - len({(o.x, o.y) for o in observers})
    return (f"{twice} observers stand where another one stands.",) if twice else ()


viewshed_step = StepKind(
    kind="viewshed",
    example="observers=413000,5871000;413300,5871300 observer_height=20",
    bench="sight",
    group="What is seen",
    title="Viewshed",
    question="What is seen, and by how many?",
    help="How many observers see each place, by a ray to each; area and share of each.",
    formula="seen where tan(eye → target) ≥ max tan(eye → ground between); each height less d² (1 − k) / 2R",
    words=(
        "visibility",
        "line of sight",
        "visible area",
        "intervisibility",
        "lookout",
        "mast coverage",
        "cumulative viewshed",
    ),
    inputs=(
        DEM,
        OBSERVERS,
        *BLOCKING,
        InputSpec(
            "weights",
            "surface",
            "Weights",
            "Such as people per cell: the share of them that is seen.",
            True,
            more=True,
        ),
    ),
    settings=SightSettings,
    gives="surface",
    run=_viewshed,
    staple=1,
    reach=RAYS,
    maps=True,
    memory=14,
    label=lambda s, names: f"Seen in {names['dem']}",
    look={"clear": 0.0},
)


def _which(settings: SightSettings, inputs: Inputs, progress: Progress) -> Outcome:
    sight = sight_of(settings, inputs, progress)
    observers = observers_of(settings, inputs, sight.frame)
    if len(observers) > viewshed.TOLD_EACH:
        raise MossError(
            f"There are {len(observers):,} observers, and which of them see a place is told for 64.",
            "Use `viewshed` for their number.",
        )
    seen = viewshed.viewshed(sight, observers, progress)
    kinds, codes = viewshed.combinations(as_kind(seen.which, np.ndarray), NO_CLASS)
    if len(kinds) > NO_CLASS - 1:
        raise MossError(
            "There are more than 254 combinations of observers, and a class map holds 254.",
            "Use fewer observers.",
        )
    codes = row_by_row(
        lambda c, z: np.where(np.isnan(z), np.uint8(NO_CLASS), c), np.uint8, codes, sight.ground
    )
    colors = colors_between(len(kinds))
    names = [
        " and ".join(o.name for k, o in enumerate(observers) if int(kind) >> k & 1) or "none sees it"
        for kind in kinds
    ]
    entries = tuple(ClassEntry(k, names[k], colors[k]) for k in range(len(kinds)))
    return class_outcome(
        ClassMap(codes, sight.frame, entries), sight.dem.valid_count, stated(settings, inputs)
    )


which_see = StepKind(
    kind="which_see",
    example="observers=413000,5871000;413300,5871300", bench="sight",
    group="What is seen",
    title="Which see it", question="Which observers see a place?",
    help="A class for each combination of observers that see a place, with its area; up to 64 observers.",
    formula="class = Σ 2ᵏ × (seen by observer k)",
    words=("combination", "who sees", "cumulative", "coverage by observer"),
    inputs=(DEM, OBSERVERS, *BLOCKING), settings=SightSettings, gives="classes", run=_which,
    staple=3,
    reach=RAYS,
    maps=True,
    memory=16,
    label=lambda s, names: f"Which see {names['dem']}",
)  # fmt: skip


class MastSettings(SightSettings):
    """Settings of mast_height: the height of the target is what is asked for."""

    unlisted = ("target_height", "down", "up")


def _mast(settings: SightSettings, inputs: Inputs, progress: Progress) -> Outcome:
    sight = sight_of(settings, inputs, progress)
    result = heights.mast_heights(sight, observers_of(settings, inputs, sight.frame), progress)
    return surface_outcome(result, stated(settings, inputs))


mast_height = StepKind(
    kind="mast_height",
    example="observers=413000,5871000",
    bench="sight",
    group="How high",
    title="Mast height",
    question="How tall must something be to be seen?",
    help=(
        "Least height above the ground at which each place is seen by at least one observer: for a mast, "
        "or a screen."
    ),
    formula="h = min over observers of max(0, ray past the highest between − z)",
    words=("height to be visible", "tower", "turbine", "screening", "above ground level"),
    inputs=(DEM, OBSERVERS, *BLOCKING),
    settings=MastSettings,
    gives="surface",
    run=_mast,
    retired=("target_height", "down", "up"),
    staple=4,
    reach=RAYS,
    maps=True,
    memory=22,
    label=lambda s, names: f"Height to be seen in {names['dem']}",
)


def _above(settings: SightSettings, inputs: Inputs, progress: Progress) -> Outcome:
    sight = sight_of(settings, inputs, progress)
    result = heights.horizon_angles(sight, observers_of(settings, inputs, sight.frame), progress)
    return surface_outcome(result, (sentence(settings), *stated(settings, inputs)))


horizon_angle = StepKind(
    kind="horizon_angle",
    example="observers=413000,5871000",
    bench="sight",
    group="How high",
    title="Angle above the horizon",
    question="How far does a target stand above or below the horizon?",
    help=(
        "Degrees between the top of a target and the horizon before it, from the observer that sees it "
        "best; negative where it is hidden."
    ),
    formula="atan tan(eye → top of target) − atan max tan(eye → ground between)",
    words=("skyline", "visibility angle", "prominence", "apparent height", "horizon", "hidden by how much"),
    inputs=(DEM, OBSERVERS, *BLOCKING),
    settings=SightSettings,
    gives="surface",
    run=_above,
    reach=RAYS,
    maps=True,
    memory=18,
    label=lambda s, names: f"Angle above the horizon in {names['dem']}",
)


class BlindSettings(Settings):
    """Settings of blind_patches."""

    least_cells: int = setting(10, "Smallest patch", "Smaller patches are left out.", unit="cells", ge=1)


SEEN = InputSpec("seen", "surface", "Seen", "From the step viewshed.", quantity="seen")


def _seen(inputs: Inputs, name: str) -> Surface:
    return as_kind(inputs[name], Surface)


TOUCH_AT: Literal[4, 8] = 8
"""Neighbours over which ground that nobody sees hangs together."""


def hidden_in(seen: Surface) -> ClassMap:
    """The ground that nobody sees, as a class of its own."""
    return pass_threshold(seen, None, False, 0.5, False, "not seen", keep_no=False)


def _blind(settings: BlindSettings, inputs: Inputs, progress: Progress) -> Outcome:
    hidden = hidden_in(_seen(inputs, "seen"))
    return blind_outcome(outlines.patches(hidden, TOUCH_AT, settings.least_cells, None, progress))


def blind_outcome(result: Shapes) -> Outcome:
    """Patches that nobody sees, with their number and the largest."""
    largest = float(result.columns["area_m2"][0])
    return Outcome(
        result,
        f"{len(result):,} patches",
        (Finding("patches", len(result), COUNT), Finding("largest", largest, SQUARE_METRE)),
    )


blind_patches = StepKind(
    kind="blind_patches",
    example="seen=seen.tif",
    bench="sight",
    group="What is seen",
    title="Blind patches",
    question="Which ground does nobody see?",
    help="Connected ground that no observer sees, as areas, the largest first.",
    formula="connected cells (edges and corners) with a count of 0; area = Σ cell area",
    words=("blind spots", "dead ground", "shadow", "unseen"),
    inputs=(SEEN,),
    settings=BlindSettings,
    gives="shapes",
    run=_blind,
    memory=25,
    label=lambda s, names: f"Blind patches of {names['seen']}",
)


class NoSightSettings(Settings):
    """Comparing has no settings."""


def _compare(settings: NoSightSettings, inputs: Inputs, progress: Progress) -> Outcome:
    before, after = _seen(inputs, "before"), _seen(inputs, "after")
    check_same_frame(before.frame, after.frame, "The two views", "Look over the same ground in both.")
    was, now = before.values > 0, after.values > 0
    codes = (was.astype(np.uint8) + 2 * now.astype(np.uint8)).astype(np.uint8)
    codes[np.isnan(before.values) | np.isnan(after.values)] = NO_CLASS
    names = (
        ("never seen", "#D5D8DA"),
        ("lost", "#B9652A"),
        ("gained", "#2C8C86"),
        ("seen before and after", "#D9C24A"),
    )
    result = ClassMap(codes, before.frame, tuple(ClassEntry(k, *n) for k, n in enumerate(names)))
    return class_outcome(result, before.valid_count)


compare_sight = StepKind(
    kind="compare_sight",
    example="before=seen.tif after=seen_later.tif",
    bench="sight",
    group="What is seen",
    title="Gained and lost",
    question="What do other observers gain and lose?",
    help="Ground gained, lost, seen by both and by neither of two sets of observers, with areas.",
    formula="gained = second > 0 and first = 0; lost = first > 0 and second = 0",
    words=("change in visibility", "difference", "compare viewsheds"),
    inputs=(
        InputSpec("before", "surface", "Before", "A viewshed.", quantity="seen"),
        InputSpec("after", "surface", "After", "A viewshed.", quantity="seen"),
    ),
    settings=NoSightSettings,
    gives="classes",
    run=_compare,
    reach=CELL,
    memory=8,
    label=lambda s, names: f"{names['after']} against {names['before']}",
)
