"""Ridges and valleys as lines, from the topology of the flow: valleys collect water, ridges collect it upside
down.
"""

from __future__ import annotations

from dataclasses import replace
from typing import Literal

import numpy as np
import shapely

from moss_step.model.errors import MossError
from moss_step.model.progress import Progress, silent
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.science.relief.gradient import slope as derive_slope
from moss_step.science.relief.profile import between_cells
from moss_step.science.water.drainage import Drainage, prepare, work_out
from moss_step.science.water.network import Network, main_stems, network, paths_as_lines, stream_cells
from moss_step.science.water.trace import lengths_of

Which = Literal["ridges", "valleys", "both"]
_REACH = 3
_AT_ONCE = 20_000
"""Lines that are measured between two reports."""


def usual_detail(dem: Surface) -> float:
    """Ground in square metres that must drain to a line when none is asked for: a 2000th of the ground, and
    at least four cells.

    Parameters
    ----------
    dem
        The ground: heights in its unit, of shape (rows, cols); NaN is no-data.

    Returns
    -------
    float
        Square metres.

    Examples
    --------
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.water.ridges import usual_detail
    >>> usual_detail(tilted())
    16.0
    """
    return max(dem.area / 2000.0, 4.0 * dem.area / max(dem.valid_count, 1))


def ridges_and_valleys(
    dem: Surface, which: Which = "both", detail: float = 20_000.0, progress: Progress | None = None
) -> Shapes:
    """All ridges and valleys that at least ``detail`` square metres drain to, on the ground or on the ground
    turned over.

    A line is a whole ridge or valley: from its upper end down along the larger catchment at each junction
    (Horton 1945), to where it joins a larger one or ends. Columns: kind, length_m, steepness_deg (how steeply
    the ground leaves the line on both sides, square to it, three cells away), mean_slope_deg along it, order
    (Strahler). Ridges are the channels of the inverted ground: Peucker & Douglas 1975, CGIP 4, by flow.

    Parameters
    ----------
    dem
        The ground: heights in its unit, of shape (rows, cols); NaN is no-data.
    which
        Grid of bits, or which kind of line, as the type says.
    detail
        Ground in square metres that must drain to a line.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    Shapes
        Lines with their columns.

    Raises
    ------
    MossError
        When no ridge or valley has as much ground.

    Source
    ------
    Peucker & Douglas 1975, Computer Graphics and Image Processing 4.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.sample import ground
    >>> from moss_step.science.water.ridges import ridges_and_valleys
    >>> ridge = ground(np.tile(-np.abs(np.arange(15) - 7.0) * 4.0, (15, 1)))
    >>> ridges_and_valleys(ridge, "ridges", detail=50.0).kind
    'lines'
    """
    progress = progress or silent()
    steep = derive_slope(dem, "degrees").values
    parts: list[Shapes] = []
    for kind in ("valleys", "ridges"):
        if which not in (kind, "both"):
            continue
        part = (
            progress
            if which == kind
            else progress.part(0.0, 0.5)
            if kind == "valleys"
            else progress.part(0.5, 1.0)
        )
        part.at(0.0, f"Finding {kind}")
        ground = dem if kind == "valleys" else replace(dem, values=_turned(dem.values))
        drainage = (prepare if ground is dem else work_out)(ground, part.part(0.0, 0.5))
        stream = stream_cells(drainage, detail, progress=part.part(0.5, 0.55))
        if stream.any():  # the other kind may still be there
            result = network(drainage, stream, part.part(0.55, 0.65))
            parts.append(_lines(drainage, result, dem, steep, kind[:-1], part.part(0.65, 1.0)))
    if not parts:
        raise MossError("No ridge or valley has as much ground.", "Ask for more detail: a smaller area.")
    columns = {n: np.concatenate([p.columns[n] for p in parts]) for n in parts[0].columns}
    columns["line"] = np.arange(1, len(columns["kind"]) + 1)
    return Shapes(np.concatenate([p.geometry for p in parts]), columns, dem.frame.crs, parts[0].symbols)


def _turned(values: np.ndarray) -> np.ndarray:
    turned: np.ndarray = -values
    turned.flags.writeable = False
    return turned


def _lines(
    drainage: Drainage, streams: Network, dem: Surface, steep: np.ndarray, kind: str, progress: Progress
) -> Shapes:
    """Whole ridges or valleys as lines with their figures."""
    stems, orders = main_stems(drainage, streams, progress.part(0.0, 0.3))
    sides, slopes = np.empty(len(stems)), np.empty(len(stems))
    for first, last in progress.part(0.3, 0.8).blocks(len(stems), _AT_ONCE, f"Measuring {kind}s"):
        some = stems[first:last]
        cells, starts = np.concatenate(some), np.cumsum([0, *(len(c) for c in some[:-1])])
        sides[first:last] = _side_steepness(dem, cells, starts, 1.0 if kind == "valley" else -1.0)
        slopes[first:last] = _means(steep.reshape(-1)[cells].astype(np.float64), starts)
    columns: dict[str, np.ndarray] = {
        "line": np.arange(1, len(stems) + 1), "kind": np.full(len(stems), kind, object),
        "length_m": lengths_of(drainage, stems), "steepness_deg": sides,
        "mean_slope_deg": slopes, "order": orders,
    }  # fmt: skip
    return Shapes(
        paths_as_lines(drainage, stems, progress.part(0.8, 1.0)),
        columns,
        drainage.frame.crs,
        {"steepness_deg": "°", "mean_slope_deg": "°"},
    )


def _side_steepness(dem: Surface, cells: np.ndarray, starts: np.ndarray, sign: float) -> np.ndarray:
    """Mean angle at which the ground rises (or falls, for ridges) from each line to both sides, square to its
    run on the ground.

    Lines are cells one after another, each from its place in ``starts`` on. Sides that lie beyond the ground
    do not count.
    """
    frame, z = dem.frame, dem.levelled[0].values
    rows, cols = np.divmod(cells, frame.cols)
    width, height = frame.row_widths[rows], frame.row_heights[rows]
    before, after = np.arange(-1, len(cells) - 1), np.arange(1, len(cells) + 1)
    before[starts], after[np.append(starts[1:], len(cells)) - 1] = (
        starts,
        np.append(starts[1:], len(cells)) - 1,
    )
    south, east = ((v[after] - v[before]) / (after - before) for v in (rows, cols))
    south, east = south * height, east * width
    norm = np.maximum(np.hypot(south, east), 1e-9)
    far = _REACH * np.minimum(width, height)
    rises = np.empty((2, len(cells)))
    for k, side in enumerate((-1.0, 1.0)):
        beside = between_cells(
            z, rows + side * far * east / norm / height, cols - side * far * south / norm / width
        )
        rises[k] = sign * (beside - z[rows, cols]) * dem.metres_per_height / far
    return np.asarray(np.nan_to_num(np.degrees(np.arctan(_means(rises.T.reshape(-1), 2 * starts)))))


def _means(values: np.ndarray, starts: np.ndarray) -> np.ndarray:
    """Mean of the values that are not NaN of each stretch from a start on; NaN where there is none."""
    known = ~np.isnan(values)
    total, count = (
        np.add.reduceat(np.where(known, values, 0.0), starts),
        np.add.reduceat(known.astype(np.int64), starts),
    )
    with np.errstate(invalid="ignore"):
        return np.asarray(total / np.where(count > 0, count, np.nan))


def strong_enough(lines: Shapes, least_length: float, least_steepness: float) -> np.ndarray:
    """Rows of the lines that are as long (metres) and as steep to their sides (degrees) as asked for.

    Parameters
    ----------
    lines
        Lines with their columns.
    least_length
        Metres.
    least_steepness
        Degrees.

    Returns
    -------
    np.ndarray
        Numbers of rows, int64.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.sample import ground
    >>> from moss_step.science.water.ridges import ridges_and_valleys, strong_enough
    >>> ridge = ground(np.tile(-np.abs(np.arange(15) - 7.0) * 4.0, (15, 1)))
    >>> lines = ridges_and_valleys(ridge, detail=50.0)
    >>> strong_enough(lines, 10.0, 0.0).tolist()
    [0, 1]
    """
    return np.flatnonzero(
        (lines.columns["length_m"] >= least_length) & (lines.columns["steepness_deg"] >= least_steepness)
    )


def kept_lines(lines: Shapes, rows: np.ndarray) -> Shapes:
    """Some of the lines, numbered anew.

    Parameters
    ----------
    lines
        Lines with their columns.
    rows
        Numbers of rows, from 0.

    Returns
    -------
    Shapes
        The lines.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.sample import ground
    >>> from moss_step.science.water.ridges import kept_lines, ridges_and_valleys
    >>> ridge = ground(np.tile(-np.abs(np.arange(15) - 7.0) * 4.0, (15, 1)))
    >>> lines = ridges_and_valleys(ridge, detail=50.0)
    >>> len(kept_lines(lines, np.array([0])))
    1
    """
    columns = {n: v[rows] for n, v in lines.columns.items()} | {"line": np.arange(1, len(rows) + 1)}
    return replace(lines, geometry=lines.geometry[rows], columns=columns)


def total_length(lines: Shapes) -> float:
    """Length of all lines in metres.

    Parameters
    ----------
    lines
        Lines with their columns.

    Returns
    -------
    float
        Metres.

    Examples
    --------
    >>> import numpy as np
    >>> import shapely
    >>> from moss_step.model.shapes import Shapes
    >>> from moss_step.science.water.ridges import total_length
    >>> lines = Shapes(np.array([shapely.LineString([(0, 0), (3, 4)])]), {"length_m": np.array([5.0])})
    >>> total_length(lines)
    5.0
    """
    return (
        float(lines.columns["length_m"].sum()) if len(lines) else float(shapely.length(lines.geometry).sum())
    )
