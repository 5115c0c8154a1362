"""Which places together see most."""

from __future__ import annotations

import numpy as np
import shapely

from moss_step.formats.vector import box_of, in_system
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.findings import Finding
from moss_step.model.frame import Box, check_same_frame
from moss_step.model.outcome import Outcome
from moss_step.model.progress import Progress
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.units import COUNT, SHARE
from moss_step.science.sight import places, viewshed
from moss_step.science.sight.observer import Observer, Sight
from moss_step.science.zones.outlines import mask_surface
from moss_step.steps.declare import Inputs, InputSpec, StepKind, largest_grid, optional, setting
from moss_step.steps.observers import BLOCKING, OBSERVERS, SightSettings, observers_of, sight_of, stated
from moss_step.steps.reach import RAYS
from moss_step.steps.shape import DEM, ground
from moss_step.steps.sight_weights import amount_of, unweighted_remarks


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
        check_same_frame(given.frame, sight.frame, "The weights and the ground")
        weights = amount_of(given.values)
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


def _looks_in(settings: BestSettings, inputs: Inputs, crs: str | None) -> Box | None:
    """The box of an area and of the candidates that look over it: all of their lines of sight lie in it."""
    area, places = optional(inputs, "area", Shapes), optional(inputs, "observers", Shapes)
    if area is None or (places is None and settings.at is None):
        return None
    boxes = [box_of(shapes, crs) for shapes in (area, places) if shapes is not None]
    boxes += [] if settings.at is None else [(x, y, x, y) for x, y in settings.at]
    known = [box for box in boxes if box is not None]
    if len(known) < len(boxes):
        return None
    west, south, east, north = zip(*known, strict=True)
    return min(west), min(south), max(east), max(north)


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
    around=_looks_in,
    memory=_best_memory,
    label=lambda s, names: f"Best {s.count} places in {names['dem']}",
)
