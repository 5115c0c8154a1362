"""Sight: what observers see, how many and which see a place, masts, horizons and best places."""

from __future__ import annotations

import math

import numpy as np
import shapely

from moss_step.formats.vector import in_system
from moss_step.model.chart import Chart
from moss_step.model.class_map import NO_CLASS, ClassEntry, ClassMap
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.findings import Finding
from moss_step.model.frame import same_frame
from moss_step.model.mapped import blocks_of, row_by_row
from moss_step.model.outcome import Outcome
from moss_step.model.progress import Progress
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.typed import as_kind
from moss_step.model.units import ANGLE, COUNT, METRE, SHARE, SQUARE_METRE
from moss_step.science.algebra.criteria import threshold as pass_threshold
from moss_step.science.classes.presets import colors_between
from moss_step.science.sight import places, viewshed
from moss_step.science.sight.kernels.rays import Reach, Stand, horizon_of
from moss_step.science.sight.line import runs_of
from moss_step.science.sight.observer import Observer, Sight, place_of, within_bearings
from moss_step.science.zones import outlines
from moss_step.science.zones.outlines import mask_surface
from moss_step.steps.declare import (
    Inputs,
    InputSpec,
    ResultSpec,
    Settings,
    StepKind,
    largest_grid,
    optional,
    setting,
)
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
from moss_step.steps.results import class_outcome, surface_outcome, unweighted
from moss_step.steps.shape import DEM, ground

TOLD = 254
"""Numbers of observers that are told apart."""


def unweighted_remarks(inputs: Inputs, dem: Surface) -> list[str]:
    """Say how many cells of the ground have no weight, when there are weights."""
    weights = optional(inputs, "weights", Surface)
    return unweighted(weights, dem) if weights is not None else []


def _check_weights(weights: Surface, sight: Sight) -> None:
    """Raise MossError when weights do not lie cell on cell with the ground."""
    if not same_frame(weights.frame, sight.frame):
        raise MossError(
            "The weights and the ground do not lie cell on cell.", "Resample them to the frame of the ground."
        )


def _amount(weights: np.ndarray) -> np.ndarray:
    """Weights of cells (float64), 0 for those without one."""
    return np.asarray(np.nan_to_num(weights).astype(np.float64))


def _weighted(
    weights: Surface | None, sight: Sight, observers: list[Observer], seen: viewshed.Seen
) -> list[Finding]:
    """How much of a weight, such as people per cell, is seen: by any, by each number of observers, by each of
    up to 64.
    """
    if weights is None:
        return []
    _check_weights(weights, sight)
    most, each = min(len(observers), TOLD), observers if seen.which is not None else []
    by_number, by_each, cells = np.zeros(most + 2), np.zeros(len(each)), np.zeros(most + 2)
    for rows in blocks_of(seen.count.values, viewshed.FEW):
        amount, count = _amount(weights.values[rows]), seen.count.values[rows]
        some = ~np.isnan(count)
        number = np.minimum(count[some], most + 1).astype(np.int64)
        by_number += np.bincount(number, amount[some], most + 2)
        cells += np.bincount(number, minlength=most + 2)
        for k in range(len(each)):
            by_each[k] += amount[seen.by(k, rows)].sum()
    total = float(by_number.sum()) or 1.0
    findings = [Finding("seen_weight_share", float(by_number[1:].sum()) / total, SHARE)]
    findings += [
        Finding("weight", float(by_number[k]), weights.unit, f"seen by {k}")
        for k in range(most + 1)
        if cells[k]
    ]
    for observer, amount_seen in zip(each, by_each, strict=True):
        held = float(amount_seen)
        findings += [
            Finding("weight", held, weights.unit, observer.name),
            Finding("weight_share", held / total, SHARE, observer.name),
        ]
    return findings


def _viewshed(settings: SightSettings, inputs: Inputs, progress: Progress) -> Outcome:
    sight = sight_of(settings, inputs, progress)
    observers = observers_of(settings, inputs, sight.frame)
    seen = viewshed.viewshed(sight, observers, progress, telling="weights" in inputs)
    most = min(len(observers), TOLD)
    numbers, areas = viewshed.counted_areas(seen.count, most + 1)
    share = float(numbers[1:].sum()) / sight.dem.valid_count
    findings = [
        Finding("seen_area_m2", float(areas[1:].sum()), SQUARE_METRE),
        Finding("seen_share", share, SHARE),
        Finding("observers", len(observers), COUNT),
    ]
    findings += _weighted(optional(inputs, "weights", Surface), sight, observers, seen)
    findings += [
        Finding("area_m2", float(areas[k]), SQUARE_METRE, f"seen by {k}")
        for k in range(most + 1)
        if numbers[k]
    ]
    for observer, n, asked, area in zip(observers, seen.seen, seen.asked, seen.areas, strict=True):
        findings += [
            Finding("share", n / max(asked, 1), SHARE, observer.name),
            Finding("area_m2", area, SQUARE_METRE, observer.name),
        ]
    places_at = {(o.x, o.y) for o in observers}
    twice = (
        (f"{len(observers) - len(places_at)} observers stand where another one stands.",)
        if len(places_at) < len(observers)
        else ()
    )
    figure = f"{share:.1%} seen" if len(observers) == 1 else f"{share:.1%} seen by any"
    return Outcome(
        seen.count,
        figure,
        tuple(findings),
        (sentence(settings), *stated(settings, inputs), *unweighted_remarks(inputs, sight.dem), *twice),
    )


viewshed_step = StepKind(
    kind="viewshed",
    example="observers=413000,5871000;413300,5871300 observer_height=20",
    bench="sight",
    group="What is seen",
    title="Viewshed",
    question="What is seen, and by how many?",
    help=(
        "How many observers see each place, every target tested by its own ray; share and area seen by each."
    ),
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
    if len(observers) > 64:
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
    result = viewshed.mast_heights(sight, observers_of(settings, inputs, sight.frame), progress)
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
    result = viewshed.horizon_angles(sight, observers_of(settings, inputs, sight.frame), progress)
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


class BlindSettings(Settings):
    """Settings of blind_patches."""

    least_cells: int = setting(10, "Smallest patch", "Smaller patches are left out.", unit="cells", ge=1)


SEEN = InputSpec("seen", "surface", "Seen", "From the step viewshed.", quantity="seen")


def _seen(inputs: Inputs, name: str) -> Surface:
    return as_kind(inputs[name], Surface)


def _blind(settings: BlindSettings, inputs: Inputs, progress: Progress) -> Outcome:
    hidden = pass_threshold(_seen(inputs, "seen"), None, False, 0.5, False, "not seen", keep_no=False)
    result = outlines.patches(hidden, 8, settings.least_cells, None, progress)
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
    if not same_frame(before.frame, after.frame):
        raise MossError("The two views do not lie cell on cell.", "Look over the same ground in both.")
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


class BestSettings(SightSettings):
    """Settings of best_places."""

    count: int = setting(3, "Places", "How many to choose.", ge=1, le=200)
    spacing: float | None = setting(
        None,
        "Grid of candidates",
        "Spacing in metres of candidates over the ground, when none come from a file.",
        gt=0,
        without_input="observers",
        when={"at": (None,)},
    )


def _candidates(settings: BestSettings, inputs: Inputs, sight: Sight) -> list[Observer]:
    if "observers" in inputs or settings.at is not None:
        return observers_of(settings, inputs, sight.frame)
    if settings.spacing is None:
        raise AskedWronglyError(
            "`best_places` needs candidates.",
            "Click on the plan, choose places, or give a spacing.",
            "Give observers=FILE, at=x,y;x,y or spacing=.",
        )
    frame = sight.frame
    down = settings.spacing / float(frame.row_heights[frame.rows // 2])
    at = []
    for r in np.arange(down / 2, frame.rows, down).astype(int):
        across = settings.spacing / float(frame.row_widths[r])
        at += [
            (frame.x_of(c), frame.y_of(r))
            for c in np.arange(across / 2, frame.cols, across).astype(int)
            if not np.isnan(sight.ground[r, c])
        ]
    return observers_of(settings.model_copy(update={"at": tuple(at), "own": None}), inputs, sight.frame)


def _best(settings: BestSettings, inputs: Inputs, progress: Progress) -> Outcome:
    sight = sight_of(settings, inputs, progress)
    candidates = _candidates(settings, inputs, sight)
    if not 1 <= len(candidates) <= 2000:
        raise MossError(f"There are {len(candidates):,} candidates.", "Give up to 2,000.")
    wanted = ~np.isnan(sight.ground)
    if (area := optional(inputs, "area", Shapes)) is not None:
        wanted &= ~np.isnan(mask_surface(sight.dem, in_system(area, sight.frame.crs), "inside").values)
    weights = np.repeat(sight.frame.row_areas[:, None], sight.frame.cols, axis=1)
    if (given := optional(inputs, "weights", Surface)) is not None:
        _check_weights(given, sight)
        weights = _amount(given.values)
    views = np.empty((len(candidates), int(wanted.sum())), bool)
    for k, candidate in enumerate(candidates):
        part = progress.part(0.05 + 0.85 * k / len(candidates), 0.05 + 0.85 * (k + 1) / len(candidates))
        part.at(0.0, f"Looking from candidate {k + 1} of {len(candidates)}")
        views[k] = viewshed.seen_by(sight, candidate, part)[wanted] == 1
    choice = places.best_places(views, weights[wanted], settings.count, progress=progress.part(0.9, 1.0))
    total = float(weights[wanted].sum())
    share = np.cumsum(choice.gains) / total
    columns = {
        "rank": np.arange(1, len(choice.chosen) + 1),
        "name": np.array([candidates[k].name for k in choice.chosen], object),
        "gain": np.array(choice.gains),
        "gain_share": np.array(choice.gains) / total,
        "share_together": share,
    }
    points = np.array([shapely.Point(candidates[k].x, candidates[k].y) for k in choice.chosen], object)
    how = (
        "All sets were tried: this is the best."
        if choice.exact
        else "Chosen one after the other: at least 63 % of the best."
    )
    findings = (Finding("share", float(share[-1]), SHARE), Finding("evaluations", choice.evaluations, COUNT))
    return Outcome(
        Shapes(points, columns, sight.frame.crs),
        f"{share[-1]:.1%} seen",
        findings,
        (how, *stated(settings, inputs), *unweighted_remarks(inputs, sight.dem)),
    )


def _best_memory(settings: BestSettings, inputs: Inputs) -> float:
    """Views of all candidates are held at once, a byte a cell each."""
    cells, given = largest_grid(inputs), optional(inputs, "observers", Shapes)
    if given is not None or settings.at is not None:
        count = (len(given) if given is not None else 0) + len(settings.at or ())
    else:
        count = int(ground(inputs).frame.area / settings.spacing**2) if settings.spacing else 0
    return cells * (28.0 + min(count, 2000))


best_places = StepKind(
    kind="best_places",
    example="spacing=200 count=2",
    bench="sight",
    group="Where to stand",
    title="Best places",
    question="Which places together see most?",
    help=(
        "Of candidates, or of a grid of them, the places that together see most of the ground or of a "
        "weight; the gain of each."
    ),
    formula="greatest Σ weight over the union of the views of k candidates; gain = what a place adds to "
    "those before it",
    words=("siting", "lookout placement", "coverage", "optimal", "facility location", "maximum coverage"),
    inputs=(
        DEM,
        OBSERVERS,
        *BLOCKING,
        InputSpec("area", "shapes", "Area", "Only ground inside counts.", True, more=True, shapes="areas"),
        InputSpec("weights", "surface", "Weights", "Such as people per cell.", True, more=True),
    ),
    settings=BestSettings,
    gives="shapes",
    run=_best,
    reach=RAYS,
    memory=_best_memory,
    label=lambda s, names: f"Best {s.count} places in {names['dem']}",
)
