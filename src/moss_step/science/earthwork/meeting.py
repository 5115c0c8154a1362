"""Brings a second surface to the cells of the first, so that both can be reckoned against each other."""

from __future__ import annotations

import numpy as np

from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.frame import Frame, carried, reference_system, same_frame
from moss_step.model.mapped import blocks_of, grid_beside, let_go, row_by_row
from moss_step.model.surface import Surface
from moss_step.model.units import METRE
from moss_step.science.relief.profile import values_at

_PLACES = 1_000_000
"""Places that are read at once."""


def laid_on(other: Surface, first: Surface) -> tuple[np.ndarray, list[str]]:
    """Heights of another surface at the cells of the first, in its unit.

    Parameters
    ----------
    other
        The surface that is brought over.
    first
        The surface whose cells and unit count.

    Returns
    -------
    tuple of np.ndarray and list of str
        Heights (rows, cols) of the first's cells, NaN beyond the other, mapped where these are; and what was
        done, in sentences.

    Raises
    ------
    MossError
        When both do not overlap, or one has a unit that is no length.

    Examples
    --------
    >>> from moss_step.science.earthwork.meeting import laid_on
    >>> from moss_step.science.sample import tilted
    >>> heights, said = laid_on(tilted(), tilted())
    >>> heights[0].tolist(), said
    ([0.0, 2.0, 4.0, 6.0, 8.0], [])
    """
    said: list[str] = []
    factor = _factor(other, first, said)
    if same_frame(other.frame, first.frame):
        heights = other.values
    else:
        heights = _read(other, first)
        said.append("The other surface has other cells: it is read between them, at the cells of the first.")
    if not any(np.isfinite(heights[rows]).any() for rows in blocks_of(heights)):
        raise MossError("Both surfaces do not overlap.", "Take surfaces of the same ground.")
    let_go(heights)
    if factor == 1.0:
        return heights, said
    return row_by_row(lambda some: some * factor, heights.dtype, heights), said


def _factor(other: Surface, first: Surface, said: list[str]) -> float:
    """What brings heights of the other surface to the unit of the first; a unit that is not stated is taken
    for metres.
    """
    a, b = other.unit, first.unit
    if a == b:
        return 1.0
    if "length" not in (a.kind, b.kind):
        return 1.0
    if {a.kind, b.kind} != {"length"}:
        said.append("The unit of one surface is not stated: metres are taken.")
    factor = other.metres_per_height / first.metres_per_height
    if factor != 1.0:
        symbols = (u.symbol if u.kind == "length" else METRE.symbol for u in (a, b))
        from_, to = symbols
        said.append(f"Heights in {from_} were brought to {to}: 1 {from_} is {factor:.9g} {to}.")
    return factor


def _read(other: Surface, first: Surface) -> np.ndarray:
    frame = first.frame
    here, there = frame.crs, other.frame.crs
    if (here is None) != (there is None):
        raise AskedWronglyError(
            "One of the surfaces states no reference system: how they lie to each other is not known.",
            "State it where the surface is opened.",
        )
    out = grid_beside(first.values, np.result_type(other.values, np.float32), np.nan)
    x = frame.x0 + (np.arange(frame.cols) + 0.5) * frame.dx
    for some in blocks_of(out, _PLACES):
        rows = np.arange(some.start, some.stop)
        y = frame.y0 - (rows + 0.5) * frame.dy
        u, v = (a.ravel() for a in np.meshgrid(x, y))
        if here is not None and there is not None and reference_system(here) != reference_system(there):
            u, v = carried(here, there, u, v)
        out[some] = values_at(other, u, v).reshape(len(rows), frame.cols)
        let_go(out, other.values)
    return out


def height_references(one: Frame, other: Frame) -> str:
    """What two frames say that their heights are counted from, where both say so and it is not the same.

    Parameters
    ----------
    one
        A frame; its reference system may hold one of heights.
    other
        Another.

    Returns
    -------
    str
        Both names, or nothing.

    Raises
    ------
    AskedWronglyError
        For a reference system that is none.

    Examples
    --------
    >>> from moss_step.model.frame import Frame
    >>> from moss_step.science.earthwork.meeting import height_references
    >>> one, other = (Frame(1, 1, 0.0, 1.0, 1.0, 1.0, f"EPSG:32628+{code}") for code in (5773, 3855))
    >>> height_references(one, other)
    'EGM96 height and EGM2008 height'
    """
    names = [_height_reference(frame) for frame in (one, other)]
    return " and ".join(names) if all(names) and names[0] != names[1] else ""


def _height_reference(frame: Frame) -> str:
    parts = [] if frame.system is None else frame.system.sub_crs_list
    return next((str(part.name) for part in parts if part.is_vertical), "")
