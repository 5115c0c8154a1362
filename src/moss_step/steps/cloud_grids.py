"""From points to grids: ground, first returns, canopy and measures of cells; heights above the ground."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from moss_step.model.cloud import CLASSES, GROUND, HIGH_NOISE, LOW_NOISE, Cloud, of_returns
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.findings import USUAL, Finding, declared
from moss_step.model.frame import Frame
from moss_step.model.mapped import blocks_of
from moss_step.model.outcome import Outcome
from moss_step.model.progress import Progress
from moss_step.model.surface import Surface
from moss_step.model.telling import mark
from moss_step.model.typed import as_kind
from moss_step.model.units import COUNT, METRE, SHARE
from moss_step.science.points.blocks import MOST
from moss_step.science.points.grids import (
    Between,
    Counting,
    What,
    frame_for,
    grid_points,
    heights_above,
    proposed_cell,
)
from moss_step.steps.clouds import CLOUD, POINTS, Codes, Returns
from moss_step.steps.declare import Inputs, InputSpec, Settings, StepKind, optional, setting
from moss_step.steps.results import surface_outcome

_VOIDS = declared("void_share", "Cells without a value", USUAL)
_STRAYS = (LOW_NOISE, HIGH_NOISE)


class GridSettings(Settings):
    """Settings of grid_points."""

    what: What = setting(
        "ground",
        "What",
        "`ground` lies between ground points; `canopy` is heights above the ground of first returns without "
        "pits; the others are extremes, means or counts of each cell.",
    )
    cell: float | None = setting(
        None,
        "Cell",
        "In units of the plan. Left out, it is proposed from the density of the points.",
        gt=0,
    )
    fill: float = setting(
        20.0,
        "Fill gaps up to",
        "Longest side of a triangle, or distance from a cell with a point; 0 sets no bound to triangles, "
        "and fills nothing else.",
        unit="m",
        ge=0,
        le=100_000,
    )
    between: Between = setting(
        "triangles",
        "Between points",
        "`triangles` gives planes back; `inverse_distance` weighs the eight nearest, and is calmer on noise.",
        when={"what": ("ground",)},
        more=True,
    )
    classes: Codes = setting(
        (),
        "Classes",
        "Points of these classes count[[: 2,9]]; left out, ground for the ground, and all for the rest.",
        more=True,
    )
    returns: Returns = setting("all", "Returns", "Which returns count; `first` for first returns.", more=True)


def _counting(settings: GridSettings) -> Counting:
    """Which points count: of the classes and returns that are asked for, and no noise unless it is."""
    classes = tuple(settings.classes) or ((GROUND,) if settings.what == "ground" else ())
    first = settings.what in ("first", "canopy") and settings.returns == "all"
    returns = "first" if first else settings.returns

    def counts(cloud: Cloud) -> np.ndarray:
        codes = cloud.attributes.get("classification")
        kept = np.ones(len(cloud), bool)
        if classes:
            kept &= np.isin(codes, classes) if codes is not None else False
        elif codes is not None:
            kept &= ~np.isin(codes, _STRAYS)
        if returns != "all" and {"return_number", "number_of_returns"} <= cloud.attributes.keys():
            number, of = cloud.attributes["return_number"], cloud.attributes["number_of_returns"]
            kept &= of_returns(returns, number, of)
        return kept

    return counts


def _how_many(cloud: Cloud, settings: GridSettings, counting: Counting) -> int:
    """How many points count.

    Raises AskedWronglyError when none does.
    """
    count = sum(int(np.count_nonzero(counting(chunk))) for chunk in cloud.chunks())
    if not count:
        classes = tuple(settings.classes) or ((GROUND,) if settings.what == "ground" else ())
        names = ", ".join(CLASSES.get(c, str(c)).lower() for c in classes) or "no noise"
        raise AskedWronglyError(
            f"No point is left of: {names}.", "Find ground points first, or take other classes."
        )
    return count


@dataclass(frozen=True)
class Gridding:
    """What is asked of a cloud, how many points count, and the cells of the grid."""

    settings: GridSettings
    cloud: Cloud
    counting: Counting
    count: int
    frame: Frame

    def told(self, findings: tuple[Finding, ...], voids: int) -> tuple[Finding, ...]:
        """What is found of the values, of the cells and of the points."""
        frame = self.frame
        return (
            *findings, Finding("cell_width", frame.cell_metres[0], METRE),
            Finding(_VOIDS, voids / (frame.rows * frame.cols), SHARE), Finding(POINTS, self.count, COUNT),
        )  # fmt: skip

    @property
    def figure(self) -> str:
        """How wide the cells are."""
        return f"cells of {mark(self.frame.cell_metres[0], METRE)}"


def gridding(settings: GridSettings, cloud: Cloud, like: Frame | None) -> Gridding:
    """What is asked of a cloud, in the cells of a grid where one is given.

    Raises AskedWronglyError where no point counts.
    """
    counting = _counting(settings)
    count = _how_many(cloud, settings, counting)
    cell = settings.cell if settings.cell is not None else proposed_cell(cloud, count / len(cloud))
    return Gridding(settings, cloud, counting, count, like if like is not None else frame_for(cloud, cell))


def _grid_points(settings: GridSettings, inputs: Inputs, progress: Progress) -> Outcome:
    like = optional(inputs, "like", Surface)
    asked = gridding(settings, as_kind(inputs["cloud"], Cloud), None if like is None else like.frame)
    progress.at(0.1, "Gathering points in cells")
    surface = grid_points(
        asked.cloud, asked.frame, settings.what, settings.fill, settings.between, asked.counting,
        progress.part(0.1, 1.0),
    )  # fmt: skip
    outcome = surface_outcome(surface)
    voids = sum(int(np.isnan(surface.values[r]).sum()) for r in blocks_of(surface.values))
    return replace(outcome, findings=asked.told(outcome.findings, voids), figure=asked.figure)


def _grid_memory(settings: GridSettings, inputs: Inputs) -> float:
    """Bytes that a grid takes: triangles of the points of a block, or counts and sums of some points."""
    cloud = as_kind(inputs["cloud"], Cloud)
    between = settings.what in ("ground", "canopy")
    whole = between and settings.fill == 0.0
    return (300.0 if between else 48.0) * (len(cloud) if whole else min(len(cloud), 2 * MOST))


grid_points_step = StepKind(
    kind="grid_points",
    example="what=highest cell=4",
    bench="points",
    group="From points to grids",
    title="Grid of points",
    question="Which surface do the points make?",
    help=(
        "A grid from points: the ground, first returns, canopy without pits, highest, "
        "lowest, mean, count, density, spread or intensity of each cell."
    ),
    formula=(
        "ground: z = Σ λᵢ zᵢ on the triangle (Delaunay) that holds the centre, or Σ zᵢ dᵢ⁻² / Σ dᵢ⁻² of "
        "the eight nearest; canopy = max over levels 0, 2, 5, 10, … m of the triangles of the points "
        "above; mean = Σ v / n; spread = √(Σ(v − mean)² / n); density = n / cell area"
    ),
    words=(
        "dtm",
        "dsm",
        "rasterize",
        "tin",
        "canopy",
        "surface model",
        "point density",
        "first return",
        "interpolate",
    ),
    inputs=(
        CLOUD,
        InputSpec("like", "surface", "Cells of", "A grid whose cells are taken.", True, more=True),
    ),
    settings=GridSettings,
    gives="surface",
    run=_grid_points,
    label=lambda s, names: f"{s.what.capitalize()} of {names['cloud']}",
    memory=_grid_memory,
    staple=3,
)


class AboveSettings(Settings):
    """Settings of height_above."""


def _height_above(settings: AboveSettings, inputs: Inputs, progress: Progress) -> Outcome:
    cloud, ground = as_kind(inputs["cloud"], Cloud), as_kind(inputs["ground"], Surface)
    progress.at(0.1, "Reading the ground below the points")
    above = heights_above(cloud, ground)
    known = above[np.isfinite(above)]
    if not known.size:
        raise MossError("No point lies over the ground.", "Take a ground that covers the cloud.")
    attributes = {**cloud.attributes, "height_above": above}
    findings = (
        Finding("highest", float(known.max()), cloud.unit),
        Finding("mean", float(known.mean()), cloud.unit),
        Finding("lowest", float(known.min()), cloud.unit),
        Finding(POINTS, len(cloud), COUNT),
    )
    lost = len(above) - known.size
    warnings = (f"{lost:,} points have no ground below them.",) if lost else ()
    return Outcome(
        replace(cloud, attributes=attributes),
        f"up to {mark(float(known.max()), cloud.unit)}",
        findings,
        warnings,
    )


def _above_bytes(inputs: Inputs) -> float:
    """Bytes of the heights of all points, twice."""
    return 10.0 * len(as_kind(inputs["cloud"], Cloud))


height_above = StepKind(
    kind="height_above",
    example="cloud=cloud.laz ground=ground.tif",
    bench="points",
    group="Heights above ground",
    title="Heights above ground",
    question="How high does each point stand above the ground?",
    help=(
        "Takes the ground below each point from its height, each in its unit, as an attribute of the points."
    ),
    formula="h = z(point) − z(ground there), bilinear between cell centres, each in metres first",
    words=("normalise", "normalized height", "hag", "canopy height", "above ground"),
    inputs=(CLOUD, InputSpec("ground", "surface", "Ground", "Heights of the ground, as a grid.")),
    settings=AboveSettings,
    gives="cloud",
    run=_height_above,
    label=lambda s, names: f"{names['cloud']} above {names['ground']}",
    look={"column": "height_above"},
    memory=lambda s, inputs: 100.0 * min(len(as_kind(inputs["cloud"], Cloud)), MOST) + _above_bytes(inputs),
    staple=4,
)
