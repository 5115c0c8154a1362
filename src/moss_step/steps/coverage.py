"""Surface: how far it is to the nearest measured place, and the line that is to be run next."""

from __future__ import annotations

import numpy as np
import shapely

from moss_step.formats.vector import in_system
from moss_step.model.arrays import as_short
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.findings import MAIN, USUAL, Finding, declared
from moss_step.model.frame import Frame
from moss_step.model.outcome import Outcome
from moss_step.model.progress import Progress
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.telling import mark
from moss_step.model.typed import as_kind
from moss_step.model.units import BEARING, METRE, SHARE
from moss_step.science.interpolate.coverage import (
    bearing_of_lines,
    cells_for,
    cells_to_cover,
    next_line,
    to_nearest,
)
from moss_step.steps.declare import Inputs, InputSpec, ResultSpec, Settings, StepKind, optional, setting

_LARGEST = declared("largest_gap", "Farthest from any", MAIN)
_COVERED = declared("covered", "Covered", MAIN)
_BEARING = declared("line_bearing", "Bearing of the next line", USUAL)
_LENGTH = declared("line_length", "Length of the next line", USUAL)


class CoverageSettings(Settings):
    """Settings of coverage."""

    spacing: float = setting(
        5.0,
        "Spacing of lines",
        "Metres from one line to the next: a place covers half of it. Too wide, and forms between lines are "
        "missed; too narrow, and most lines are run for nothing.",
        unit="m",
        gt=0,
    )
    bearing: float | None = setting(
        None, "Bearing of lines", "Left out, that of the way through the points, or of the longer side.",
        unit="degrees", ge=0, le=360,
    )  # fmt: skip


def _coverage(settings: CoverageSettings, inputs: Inputs, progress: Progress) -> Outcome:
    points, area = as_kind(inputs["points"], Shapes), optional(inputs, "area", Shapes)
    like = optional(inputs, "like", Surface)
    if like is not None and points.crs is not None and like.frame.crs is not None:
        points = in_system(points, like.frame.crs)
    xy = shapely.get_coordinates(points.geometry)
    if not len(xy):
        raise MossError("There are no points.", "Take others.")
    if area is not None:
        area = in_system(area, points.crs)
    held = points if area is None else area
    if held.box is None:
        raise AskedWronglyError("The outline is empty.", "Take another.")
    frame = cells_for(held.crs, held.box, settings.spacing) if like is None else like.frame
    wanted = cells_to_cover(frame, points, area)
    if not wanted.any():
        raise MossError("No cell lies in what is to be covered.", "Take a smaller spacing.")
    progress.at(0.2, "Measuring distances")
    far = to_nearest(frame, wanted, xy[:, 0], xy[:, 1])
    bearing = bearing_of_lines(frame, xy, held) if settings.bearing is None else settings.bearing
    progress.at(0.8, "Looking for the next line")
    line = next_line(far, frame, settings.spacing, bearing, (float(xy[-1, 0]), float(xy[-1, 1])))
    surface = Surface(as_short(far), frame, METRE, "distance")
    share = float(np.average(far[wanted] <= 0.5 * settings.spacing, weights=_areas(frame, wanted)))
    findings = [Finding(_LARGEST, float(far[wanted].max()), METRE), Finding(_COVERED, share, SHARE)]
    geometry = np.empty(0, object)
    if line is not None:
        geometry = np.array([shapely.LineString(line)], object)
        findings += [
            Finding(_BEARING, frame.bearing(line[0], line[1]), BEARING),
            Finding(_LENGTH, float(frame.lengths(geometry)[0]), METRE),
        ]

    def proposed() -> Outcome:
        columns = {"length_m": frame.lengths(geometry)}
        return Outcome(Shapes(geometry, columns, points.crs), f"{len(geometry)} line", tuple(findings))

    said = () if line is not None else ("All is covered: no line is needed.",)
    return Outcome(
        surface, f"up to {mark(findings[0].value, METRE)}", tuple(findings), said, beside={"line": proposed}
    )


def _areas(frame: Frame, wanted: np.ndarray) -> np.ndarray:
    return np.asarray(np.broadcast_to(frame.row_areas[:, None], frame.shape)[wanted])


def _memory(settings: CoverageSettings, inputs: Inputs) -> float:
    """Bytes: some arrays of cells, and the tree of places."""
    points, area = as_kind(inputs["points"], Shapes), optional(inputs, "area", Shapes)
    like = optional(inputs, "like", Surface)
    held = points if area is None else in_system(area, points.crs)
    if like is None and held.box is None:
        return 0.0
    box = held.box or (0.0, 0.0, 0.0, 0.0)
    frame = like.frame if like is not None else cells_for(held.crs, box, settings.spacing)
    return 60.0 * frame.rows * frame.cols + 200.0 * len(points)


coverage = StepKind(
    kind="coverage",
    example="points=checks.gpkg spacing=40",
    bench="surface",
    group="Between places",
    title="Coverage",
    question="Where was nothing measured, and which line comes next?",
    help=(
        "How far it is from each cell of an outline to the nearest point or sounding, and the straight line "
        "that covers most of what is left, nearest to where the survey ended."
    ),
    formula="distance = min √(Δx² + Δy²) over all points; covered where it is at most spacing / 2",
    words=("coverage", "gaps", "survey lines", "distance to nearest", "next line", "holidays", "soundings"),
    inputs=(
        InputSpec("points", "shapes", "Points", "Places that were measured, in the order of the survey.",
                  shapes="points lines"),
        InputSpec("area", "shapes", "Outline", "What is to be covered. Left out, the points' hull.", True,
                  shapes="areas"),
        InputSpec("like", "surface", "Cells of", "A grid whose cells are taken.", True, more=True),
    ),
    settings=CoverageSettings,
    gives="surface",
    run=_coverage,
    memory=_memory,
    label=lambda s, names: f"Coverage of {names['points']}",
    main="Distance to the nearest",
    beside=(ResultSpec("line", "shapes", "Next line", "The line that is to be run next."),),
    staple=3,
)  # fmt: skip
