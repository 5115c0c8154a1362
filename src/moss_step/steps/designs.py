"""What pads, roads and bunds have in common: their lines, results and remarks."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any

import numpy as np
import shapely

from moss_step.formats.vector import in_system
from moss_step.kinds.registry import is_mapped
from moss_step.model.errors import AskedWronglyError
from moss_step.model.findings import USUAL, Finding, declared
from moss_step.model.frame import same_system
from moss_step.model.mapped import grid_beside, row_by_row
from moss_step.model.outcome import Outcome
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.table import Table
from moss_step.model.telling import mark
from moss_step.model.typed import as_kind
from moss_step.model.units import CUBIC_METRE, SQUARE_METRE
from moss_step.science.earthwork.kernels.works import BED, CUT, FILL, LOST
from moss_step.science.earthwork.works import Built
from moss_step.science.zones.tracing import areas_of
from moss_step.steps.declare import Inputs, InputSpec, ResultSpec, Settings, StepKind, optional, setting
from moss_step.steps.fields import PointsField
from moss_step.steps.moved_figures import PRICES, extents, priced, volumes
from moss_step.steps.records import corner_rows, frame_rows, origin_rows, record_table, setting_rows

_BED_AREA = declared("bed_area", "Area of the bed", USUAL)
_CUT_SLOPES = declared("cut_slopes", "Slopes in cut", USUAL)
_FILL_SLOPES = declared("fill_slopes", "Slopes in fill", USUAL)
GROUND = InputSpec("surface", "surface", "Ground", "Heights as they are.", quantity="elevation")
LINE = InputSpec("line", "shapes", "Line", "In place of one that is drawn.", True, shapes="lines")
_RESULTS = (
    ResultSpec("design", "surface", "Design", "The ground as it will be.", {"ramp": "upland"}),
    ResultSpec("works", "shapes", "Works", "Bed and side slopes as areas, with their volumes."),
    ResultSpec("record", "table", "Record", "What was asked and found, with the time of the reckoning."),
)
_PARTS = ((BED, "Bed"), (CUT, "Slope in cut"), (FILL, "Slope in fill"))


def path_setting() -> Any:
    """The corners of a line that is drawn."""
    return setting(None, "Line", "Its corners[[: x,y;x,y]].", control="path", without_input="line", more=True)


def works_memory(settings: Any, inputs: Inputs) -> float:
    """Bytes that a design takes beside the ground: the depth and the design, which are mapped where the
    ground is, and what is held of the part around it.
    """
    surface = as_kind(inputs["surface"], Surface)
    frame, cells = surface.frame, float(surface.values.size)
    drawn = getattr(settings, "outline", None) or getattr(settings, "path", None)
    shapes = optional(inputs, "area", Shapes) or optional(inputs, "line", Shapes)
    box = shapes.box if shapes is not None and same_system(shapes.crs, frame.crs) else None
    if drawn and shapes is None:
        xy = np.array(drawn, np.float64)
        box = (*xy.min(axis=0).tolist(), *xy.max(axis=0).tolist())
    part = cells if box is None else (box[2] - box[0]) / frame.dx * (box[3] - box[1]) / frame.dy
    results = 0.0 if is_mapped(surface) else 9.0 * cells
    return results + 34.0 * min(2.0 * part, cells) + 1.5e7


def design_kind(**own: Any) -> StepKind:
    """Declare a design: ``own`` is what it does not have in common with the others."""
    shared: dict[str, Any] = {
        "bench": "earthwork", "group": "Designs", "gives": "surface", "memory": works_memory,
        "records": True, "between": ("surface", ".design"), "look": {"ramp": "earth", "centre": 0.0},
        "main": "Depth of cut and fill",
    }  # fmt: skip
    beside = (*_RESULTS, *own.pop("beside", ()))
    return StepKind(beside=beside, **{**shared, **own})


def slope_setting(title: str, help: str, usual: float, more: bool = False) -> Any:
    """A side slope of 1:n."""
    return setting(
        usual, title, f"{help} Metres outward for each metre of height; 0.01 is a wall.", ge=0.01, le=50,
        more=more,
    )  # fmt: skip


def drawn_lines(path: PointsField | None, inputs: Inputs, surface: Surface) -> list[np.ndarray]:
    """Corners (n, 2) of the lines that are asked for.

    Raises AskedWronglyError where there is none, or one has no length.
    """
    shapes = optional(inputs, "line", Shapes)
    if shapes is not None:
        held = in_system(shapes, surface.frame.crs).geometry
        merged = shapely.line_merge(shapely.union_all(held))
        lines = [shapely.get_coordinates(g) for g in shapely.get_parts(merged)]
    else:
        lines = [] if path is None else [np.array(path, np.float64)]
    if not lines:
        raise AskedWronglyError("There is no line.", "Draw one on the plan.", "Give line=... or path=...")
    for corners in lines:
        if len(np.unique(corners, axis=0)) < 2:
            raise AskedWronglyError("The line has no length.", "Give it two corners or more.")
    return lines


def findings_of(settings: Settings, built: Built, around: float) -> list[Finding]:
    """All figures of a design; areas on the ground are not told."""
    moved = [built.moved]
    return [
        *volumes(moved),
        *(f for f in extents(moved, float("nan"), around) if f.name != "surface_area"),
        *(
            Finding(name, area, SQUARE_METRE)
            for name, area in zip((_BED_AREA, _CUT_SLOPES, _FILL_SLOPES), built.areas, strict=True)
        ),
        *priced(settings, moved),
    ]


def design_outcome(
    settings: Settings, inputs: Inputs, built: Built, drawn: np.ndarray, findings: Sequence[Finding],
    said: Sequence[str] = (), more: Mapping[str, Callable[[], Outcome]] | None = None,
) -> Outcome:  # fmt: skip
    """The depth of cut and fill, with the design, its works and the record beside it; ``drawn`` are outlines
    or lines.
    """
    surface = as_kind(inputs["surface"], Surface)
    found, remarks = tuple(findings), (*said, *_remarks(built))
    figure = f"cut {mark(built.moved.cut, CUBIC_METRE)}, fill {mark(built.moved.fill, CUBIC_METRE)}"
    depth = grid_beside(surface.values, surface.values.dtype, np.nan)
    part, rise = (built.rows, built.cols), built.change / surface.metres_per_height
    depth[part] = -rise

    def design() -> Outcome:
        heights = row_by_row(lambda rows: rows, surface.values.dtype, surface.values)
        heights[part] += np.nan_to_num(rise).astype(heights.dtype)
        return Outcome(Surface(heights, surface.frame, surface.unit), figure, found)

    def works() -> Outcome:
        made = works_of(surface, built)
        return Outcome(made, made.count_text, found)

    def record() -> Outcome:
        return Outcome(_record(settings, inputs, surface, drawn, found, remarks), "record", found)

    held = Surface(depth, surface.frame, surface.unit, "difference")
    beside = {"design": design, "works": works, "record": record, **(more or {})}
    return Outcome(held, figure, found, remarks, beside=beside)


def _remarks(built: Built) -> list[str]:
    said = []
    if built.open:
        said.append("The works reach the rim of the ground, or ground that was not measured: more is moved.")
    if built.moved.cut == 0.0 and built.moved.fill == 0.0:
        said.append("Nothing is cut and nothing filled: the ground lies at the design already.")
    return said


def works_of(surface: Surface, built: Built) -> Shapes:
    """Bed, slopes in cut and slopes in fill as areas with what is moved there."""
    numbers = np.where(built.kinds == LOST, 0, built.kinds).astype(np.int32)
    geometry = areas_of(numbers, built.frame, len(_PARTS))
    off = built.ground - built.heights
    volume = np.nan_to_num(off) * built.frame.row_areas[:, None]
    kept = [k for k, (number, _) in enumerate(_PARTS) if (numbers == number).any()]
    sums = [volume[numbers == _PARTS[k][0]] for k in kept]
    columns = {
        "part": np.array([_PARTS[k][1] for k in kept], object),
        "area_m2": built.frame.areas(geometry[kept]),
        "cut_m3": np.array([v[v > 0].sum() for v in sums]),
        "fill_m3": np.array([-v[v < 0].sum() for v in sums]),
    }
    return Shapes(geometry[kept], columns, surface.frame.crs)


def _record(
    settings: Settings, inputs: Inputs, surface: Surface, drawn: np.ndarray, findings: Sequence[Finding],
    said: Sequence[str],
) -> Table:  # fmt: skip
    """What was asked and found, with the ground, the corners and the time."""
    names = [n for n in type(settings).listed() if n not in ("outline", "path", *PRICES)]
    asked = [
        *origin_rows(inputs, (("surface", "ground"), ("area", "outlines"), ("line", "line"))),
        *setting_rows(settings, names), *frame_rows(surface), *setting_rows(settings, PRICES),
        *corner_rows(surface, drawn),
    ]  # fmt: skip
    return record_table(asked, findings, said)
