"""Closing gaps of a surface."""

from __future__ import annotations

from dataclasses import replace

from moss_step.model.findings import Finding
from moss_step.model.outcome import Outcome
from moss_step.model.progress import Progress
from moss_step.model.surface import Surface
from moss_step.model.typed import as_kind
from moss_step.model.units import CELLS, COUNT
from moss_step.science.algebra import voids
from moss_step.steps.declare import Inputs, InputSpec, Settings, StepKind, setting
from moss_step.steps.reach import Reach
from moss_step.steps.results import surface_outcome

NO_VOID, VOIDS = "There was no void to fill.", "voids_filled"
_LOCAL = 500
"""Cells of a void up to which it is filled by those around a part of the ground: it reaches no farther."""


class FillSettings(Settings):
    """Settings of fill_voids."""

    most_cells: int = setting(
        100, "Largest void", "Voids of up to this many cells are filled.", unit="cells", ge=1, le=1_000_000
    )


def _fill(settings: FillSettings, inputs: Inputs, progress: Progress) -> Outcome:
    progress.at(0.1, "Filling voids")
    result, found = voids.fill_voids(as_kind(inputs["surface"], Surface), settings.most_cells)
    outcome = filled_outcome(result, len(found.first), len(found.cells))
    return replace(outcome, lying={VOIDS: found.first, "cells_filled": found.cells})


def filled_outcome(surface: Surface, count: int, cells: int) -> Outcome:
    """A surface in which some voids with so many cells were filled."""
    told = surface_outcome(surface, () if count else (NO_VOID,))
    more = Finding(VOIDS, count, COUNT), Finding("cells_filled", cells, CELLS)
    return replace(told, figure=filled_figure(count), findings=(*told.findings, *more))


def filled_figure(count: int) -> str:
    """What stands for the result in a word or two."""
    return f"{count:,} voids filled"


fill_voids = StepKind(
    kind="fill_voids",
    example="surface=ground.tif",
    bench="surface",
    group="Values",
    title="Fill voids",
    question="Which small gaps should be closed?",
    help=(
        "Fills small voids from their rims with a membrane that gives planes back exactly. Large ones and "
        "those at the edge stay."
    ),
    formula="(zₗ − 2z + zᵣ) / dx² + (zᵤ − 2z + z_d) / dy² = 0 in each void, with its rim as it is",
    words=("nodata", "gaps", "holes", "interpolate", "void filling"),
    inputs=(InputSpec("surface", "surface", "Surface", "The values to work on."),),
    settings=FillSettings,
    gives="surface",
    run=_fill,
    reach=Reach("around", cells=lambda s: s.most_cells, settings=lambda s: s.most_cells <= _LOCAL),
    memory=32,
    label=lambda s, names: f"{names['surface']}, voids filled",
)
