"""Tracing contours: by contourpy, in bands of rows, whose lines are joined where these meet."""

from __future__ import annotations

from typing import Any

import numpy as np
import shapely

from moss_step.model.frame import Frame
from moss_step.model.progress import Progress, silent

BAND_CELLS = 4_000_000
"""Cells that are traced at a time."""
_NEAR = 1e-6
"""Parts of a cell within which two points are the same."""
Pieces = list[list[np.ndarray]]
"""Lines of each level as points in columns and rows."""


def trace_bands(shape: tuple[int, int]) -> list[tuple[int, int]]:
    """First and last row of the bands that contours are traced in; each begins on the last row of the one
    before.

    Parameters
    ----------
    shape
        Rows and columns of the ground.

    Returns
    -------
    list[tuple[int, int]]
        Rows.

    Examples
    --------
    >>> from moss_step.science.relief.contour_tracing import trace_bands
    >>> trace_bands((5, 2_000_000))
    [(0, 2), (2, 4)]
    """
    rows = max(BAND_CELLS // shape[1], 2)
    starts = range(0, max(shape[0] - 1, 1), rows)
    return [(first, min(first + rows, shape[0] - 1)) for first in starts]


def trace_band(
    some: np.ndarray, band: tuple[int, int], rows: int, levels: np.ndarray, progress: Progress | None = None
) -> tuple[Pieces, Pieces]:
    """Lines of each level in a band of a ground: those that end in it, and those that go on in another.

    Parameters
    ----------
    some
        Heights of the band, float32; NaN is no-data.
    band
        Its first and last row in the ground.
    rows
        Rows of the ground.
    levels
        Heights of the lines.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    tuple[Pieces, Pieces]
        Points (n, 2) of each line in columns and rows, by level.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.relief.contour_tracing import trace_band
    >>> whole, open_ = trace_band(np.array([[0, 2], [0, 2]], np.float32), (0, 1), 2, np.array([1.0]))
    >>> len(whole[0]), len(open_[0])
    (1, 0)
    """
    from contourpy import LineType, contour_generator

    progress, (first, last) = progress or silent(), band
    result: Pieces = [[] for _ in levels]
    open_: Pieces = [[] for _ in levels]
    generator = contour_generator(
        z=np.ma.masked_invalid(some) if np.isnan(some).any() else some,
        line_type=LineType.ChunkCombinedOffset,
    )
    seams = [float(r) for r in (first, last) if 0 < r < rows - 1]
    for k, level in enumerate(levels):
        progress.at(k / len(levels), "Tracing")
        traced: Any = generator.lines(float(level))
        (points,), (offsets,) = traced
        if points is None:
            continue
        points[:, 1] += first
        for line in np.split(points, np.asarray(offsets[1:-1], np.int64)):
            if len(line) >= 2:
                (open_ if seams and _meets_seam(line, seams) else result)[k].append(line)
    return result, open_


def traced(z: np.ndarray, levels: np.ndarray, progress: Progress | None = None) -> Pieces:
    """Lines of each level, traced in bands of rows and joined across the rows where these meet.

    What the tracer holds beside the grid then takes the memory of one band, and it can be stopped between
    two.

    Parameters
    ----------
    z
        Heights of shape (rows, cols), float32; NaN is no-data.
    levels
        Heights of the lines.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    Pieces
        Points (n, 2) of each line in columns and rows, by level.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.relief.contour_tracing import traced
    >>> len(traced(np.array([[0, 2], [0, 2]], np.float32), np.array([1.0]))[0])
    1
    """
    progress, bands = progress or silent(), trace_bands((z.shape[0], z.shape[1]))
    found = []
    for n, (first, last) in enumerate(bands):
        part = progress.part(0.9 * n / len(bands), 0.9 * (n + 1) / len(bands))
        found.append(trace_band(z[first : last + 1], (first, last), len(z), levels, part))
    return join_bands(found, progress.part(0.9, 1.0))


def join_bands(found: list[tuple[Pieces, Pieces]], progress: Progress | None = None) -> Pieces:
    """Lines of each level from those of all bands in their order; ``found`` is used up.

    Parameters
    ----------
    found
        Lines of each band, by ``trace_band``.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    Pieces
        Points (n, 2) of each line in columns and rows, by level.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.relief.contour_tracing import join_bands
    >>> above, below = np.array([[0.5, 0.0], [0.5, 1.0]]), np.array([[0.5, 1.0], [0.5, 2.0]])
    >>> len(join_bands([([[]], [[above]]), ([[]], [[below]])])[0])
    1
    """
    progress, count = progress or silent(), len(found[0][0])
    result: Pieces = [[] for _ in range(count)]
    open_: Pieces = [[] for _ in range(count)]
    for whole, part in found:
        for k in range(count):
            result[k] += whole[k]
            open_[k] += part[k]
    found.clear()
    for k, pieces in enumerate(open_):
        progress.at(k / count, "Joining bands")
        result[k] += _joined(pieces)
    return result


def in_place(
    traced: list[list[np.ndarray]], levels: np.ndarray, frame: Frame, progress: Progress | None = None
) -> list[np.ndarray]:
    """Lines of each level from their points; ``traced`` is used up.

    Parameters
    ----------
    traced
        Points of each line in columns and rows, by level.
    levels
        Heights of the levels.
    frame
        Rows, columns, cell size and reference system of the ground.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    list[np.ndarray]
        Lines of each level.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.relief.contour_tracing import in_place
    >>> from moss_step.science.sample import tilted
    >>> in_place([[np.array([[0.0, 0.0], [0.0, 2.0]])]], np.array([4.0]), tilted().frame)[0][0].length
    4.0
    """
    progress, made = progress or silent(), []
    for k, level in enumerate(levels):
        progress.at(k / len(levels), f"Joining {level:g}")
        result = _lines(traced[k], frame)
        traced[k] = []  # what is joined need not be held twice
        made.append(result[shapely.length(result) > 0])  # not a height that a single cell just reaches
    return made


def _meets_seam(line: np.ndarray, seams: list[float]) -> bool:
    """Whether an open line begins or ends on the row where two bands meet."""
    ends = (line[0, 1], line[-1, 1])
    return any(abs(y - seam) < _NEAR for y in ends for seam in seams) and not np.array_equal(
        line[0], line[-1]
    )


def _joined(pieces: list[np.ndarray]) -> list[np.ndarray]:
    """Join lines whose end is the beginning of another, as lines of one level in neighbouring bands are:
    higher ground lies on one side of all.
    """
    place = {_key(line[0]): k for k, line in enumerate(pieces)}
    after = [place.get(_key(line[-1]), -1) for line in pieces]
    begins = set(range(len(pieces))) - set(after)
    done, result = [False] * len(pieces), []
    for first in [*sorted(begins), *range(len(pieces))]:  # what has no beginning runs around
        chain: list[np.ndarray] = []
        at = first
        while at >= 0 and not done[at]:
            done[at] = True
            chain.append(pieces[at] if not chain else pieces[at][1:])
            at = after[at]
        if chain:
            line = np.concatenate(chain)
            if at >= 0 and _key(line[-1]) == _key(line[0]):
                line[-1] = line[0]
            result.append(line)
    return result


def _key(point: np.ndarray) -> tuple[int, int]:
    """A point on the row where bands meet, as a number that is the same from both of them."""
    return round(float(point[0]) / _NEAR), round(float(point[1]) / _NEAR)


def _lines(pieces: list[np.ndarray], f: Frame) -> np.ndarray:
    """Lines from points in columns and rows."""
    if not pieces:
        return np.empty(0, object)
    points = np.concatenate(pieces)
    xy = np.column_stack([f.x0 + (points[:, 0] + 0.5) * f.dx, f.y0 - (points[:, 1] + 0.5) * f.dy])
    return np.asarray(
        shapely.linestrings(xy, indices=np.repeat(np.arange(len(pieces)), [len(p) for p in pieces]))
    )
