"""Two surfaces against each other, other units, exaggeration, and several grids as one."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal

import numpy as np

from moss_step.model.errors import MossError
from moss_step.model.frame import Frame, check_same_frame
from moss_step.model.mapped import blocks_of, check_room, let_go, new_grid
from moss_step.model.progress import Progress, silent
from moss_step.model.surface import Surface
from moss_step.model.units import ANGLE, METRE, NONE, PERCENT, UNKNOWN, Unit, convert
from moss_step.science.algebra.bearings import turn_between

Measure = Literal["difference", "ratio", "change"]


def difference(first: Surface, second: Surface, measure: Measure = "difference") -> tuple[Surface, list[str]]:
    """``first - second``, ``first / second``, or the change from second to first in percent, with remarks.

    Another unit of the same kind is converted and that is said.

    Parameters
    ----------
    first
        The surface or bearings that the second is compared with.
    second
        What is taken away from the first, or divides it.
    measure
        ``difference``, ``ratio``, or ``change`` in percent.

    Returns
    -------
    tuple[Surface, list[str]]
        The result in the unit of the first (or a ratio, or percent), and remarks.

    Raises
    ------
    MossError
        When units or frames do not go together.

    Examples
    --------
    >>> from moss_step.science.algebra.arithmetic import difference
    >>> from moss_step.science.sample import tilted
    >>> dem = tilted()  # rises by 2 m a cell of 2 m to the east
    >>> float(difference(dem, dem)[0].values.max())
    0.0
    """
    do = "Resample one to the frame of the other, or crop both alike."
    check_same_frame(first.frame, second.frame, "The two surfaces", do)
    if first.cyclic or second.cyclic:
        return _turn(first, second, measure), []
    remarks, values = [], second.values
    one, other = first.unit, second.unit
    if one != other and UNKNOWN in (one, other) and "length" in (one.kind, other.kind):
        one, other = (METRE if u == UNKNOWN else u for u in (one, other))
        remarks.append("One height unit is not stated: metres are taken.")
    if one != other and UNKNOWN not in (one, other):
        values = convert(second.values.astype(np.float64), other, one).astype(second.values.dtype)
        remarks.append(f"The second surface was converted from {other.key} to {one.key}.")
    with np.errstate(divide="ignore", invalid="ignore"):
        if measure == "difference":
            out, unit = first.values - values, one
        elif measure == "ratio":
            out, unit = first.values / values, NONE
        else:
            out, unit = (first.values - values) / np.abs(values) * np.float32(100), PERCENT
    out = out.astype(np.float32)  # what is left of two large heights is small
    out[np.isinf(out)] = np.nan
    return Surface(out, first.frame, unit, measure), remarks


def _turn(first: Surface, second: Surface, measure: Measure) -> Surface:
    """The turn from one bearing to another, the short way round."""
    if not (first.cyclic and second.cyclic):
        raise MossError(
            "One of the surfaces holds bearings and the other does not.", "Compare like with like."
        )
    if measure != "difference":
        raise MossError(
            "Bearings have no ratio and no change in percent.",
            "Choose the difference: the turn from one to the other.",
            "Use measure=difference: the turn from one to the other.",
        )
    return Surface(turn_between(first.values, second.values).astype(np.float32), first.frame, ANGLE, measure)


def converted(surface: Surface, unit: Unit) -> Surface:
    """The same values in another unit of the same kind.

    Parameters
    ----------
    surface
        Values of shape (rows, cols); NaN is no-data.
    unit
        The unit asked for.

    Returns
    -------
    Surface
        Values in the unit asked for, float32.

    Examples
    --------
    >>> from moss_step.model.units import FOOT
    >>> from moss_step.science.algebra.arithmetic import converted
    >>> from moss_step.science.sample import tilted
    >>> converted(tilted(), FOOT).values[0].astype(float).round(2).tolist()
    [0.0, 6.56, 13.12, 19.69, 26.25]
    """
    values = convert(surface.values.astype(np.float64), surface.unit, unit).astype(surface.values.dtype)
    return Surface(values, surface.frame, unit, surface.quantity)


def exaggerated(surface: Surface, factor: float) -> Surface:
    """Heights times a factor, as a surface of its own.

    Parameters
    ----------
    surface
        Values of shape (rows, cols); NaN is no-data.
    factor
        What heights are multiplied by.

    Returns
    -------
    Surface
        Heights of the same frame and unit.

    Examples
    --------
    >>> from moss_step.science.algebra.arithmetic import exaggerated
    >>> from moss_step.science.sample import tilted
    >>> exaggerated(tilted(), 2.0).values[0].tolist()
    [0.0, 4.0, 8.0, 12.0, 16.0]
    """
    _ = surface.metres_per_height
    return Surface(
        surface.values * surface.values.dtype.type(factor), surface.frame, surface.unit, surface.quantity
    )


def merge(grids: Mapping[str, Surface], progress: Progress | None = None) -> tuple[Surface, list[str]]:
    """Several grids of one system and cell size as one; where they overlap the first one with a value counts.

    Parameters
    ----------
    grids
        Grids of one system and cell size by name; of those that overlap the first counts.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    tuple[Surface, list[str]]
        The grid over all of them, and remarks.

    Raises
    ------
    MossError
        When systems, units or cells differ, or the cells are shifted against one another.

    Examples
    --------
    >>> from moss_step.science.algebra.arithmetic import merge
    >>> from moss_step.science.sample import tilted
    >>> joined, said = merge({"west": tilted(), "east": tilted()})
    >>> joined.frame.shape, said
    ((4, 5), ['20 cells overlap; the first grid counts there.'])
    """
    names, surfaces = list(grids), list(grids.values())
    base = surfaces[0]
    for name, s in grids.items():
        f, b = s.frame, base.frame
        if f.system != b.system or abs(f.dx - b.dx) > 1e-6 * b.dx or abs(f.dy - b.dy) > 1e-6 * b.dy:
            raise MossError(
                f"'{name}' has another reference system or cell size than '{names[0]}'.",
                "Reproject or resample it first.",
            )
        off = [((f.x0 - b.x0) / b.dx) % 1.0, ((f.y0 - b.y0) / b.dy) % 1.0]
        if any(1e-3 < o < 1.0 - 1e-3 for o in off):
            raise MossError(
                f"The cells of '{name}' are shifted against those of '{names[0]}'.",
                "Resample it to the same frame.",
            )
        if s.unit != base.unit:
            raise MossError(
                f"'{name}' is in {s.unit.key} and '{names[0]}' in {base.unit.key}.", "Convert one first."
            )
    boxes = np.array([s.frame.box for s in surfaces])
    x0, y0 = boxes[:, 0].min(), boxes[:, 3].max()
    cols, rows = (
        round((boxes[:, 2].max() - x0) / base.frame.dx),
        round((y0 - boxes[:, 1].min()) / base.frame.dy),
    )
    check_room(rows * cols, "The merged grid", "Merge fewer or crop them first.")
    frame = Frame(rows, cols, x0, y0, base.frame.dx, base.frame.dy, base.frame.crs)
    out, overlap = new_grid((rows, cols), np.result_type(*(s.values for s in surfaces)), np.nan), 0
    for k, s in enumerate(surfaces):
        (progress or silent()).at(k / len(surfaces), "Merging")
        r, c = round((y0 - s.frame.y0) / frame.dy), round((s.frame.x0 - x0) / frame.dx)
        part = out[r : r + s.frame.rows, c : c + s.frame.cols]
        for some in blocks_of(s.values):
            laid, own = part[some], s.values[some]
            empty = np.isnan(laid)
            overlap += int(np.count_nonzero(~empty & ~np.isnan(own)))
            laid[empty] = own[empty]
            let_go(out, s.values)
    remarks = [f"{overlap:,} cells overlap; the first grid counts there."] if overlap else []
    return Surface(out, frame, base.unit, base.quantity), remarks
