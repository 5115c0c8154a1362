"""Clouds in square blocks: what is too large at once is worked through block by block, each with a margin."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from moss_step.model.cloud import Cloud
from moss_step.model.frame import Box, Frame
from moss_step.model.mapped import room_for
from moss_step.science.points.cells import cells_of, counts_in
from moss_step.science.points.kernels.cells import place_in_order

MOST = 1_000_000
"""Points of a block, about, its margin left out."""


@dataclass(frozen=True, eq=False)
class Block:
    """Numbers of the points in a block and its margin, which of these are its own, and its box."""

    rows: np.ndarray
    own: np.ndarray
    box: Box


@dataclass(frozen=True, eq=False)
class Blocks:
    """The points of a cloud block by block: ``order`` are their numbers, those of each block from its place
    in ``starts`` on.
    """

    cloud: Cloud
    frame: Frame
    starts: np.ndarray
    order: np.ndarray

    def __len__(self) -> int:
        return self.frame.rows * self.frame.cols

    def around(self, margin: float) -> Iterator[Block]:
        """Each block that holds points, with those within a margin, in units of the plan, around it."""
        for place in self.places():
            yield self.at(*place, margin)

    def places(self) -> Iterator[tuple[int, int]]:
        """Row and column of each block that holds points."""
        for k in np.flatnonzero(np.diff(self.starts)).tolist():
            yield divmod(k, self.frame.cols)

    def box(self, row: int, col: int) -> Box:
        """The box of a block."""
        frame = self.frame
        west, north = frame.x0 + col * frame.dx, frame.y0 - row * frame.dy
        return west, north - frame.dy, west + frame.dx, north

    def at(self, row: int, col: int, margin: float) -> Block:
        """One block, with the points within a margin, in units of the plan, around it."""
        frame, cloud, box = self.frame, self.cloud, self.box(row, col)
        reach = int(np.ceil(margin / min(frame.dx, frame.dy)))
        own = self._of(row, row + 1, col, col + 1)
        near = self._of(
            max(row - reach, 0), min(row + reach + 1, frame.rows), max(col - reach, 0),
            min(col + reach + 1, frame.cols),
        )  # fmt: skip
        x, y = cloud.x[near], cloud.y[near]
        kept = (x >= box[0] - margin) & (x <= box[2] + margin)
        kept &= (y >= box[1] - margin) & (y <= box[3] + margin)
        rows = near[kept]
        return Block(rows, np.isin(rows, own, assume_unique=True), box)

    def _of(self, first_row: int, last_row: int, first_col: int, last_col: int) -> np.ndarray:
        """Numbers of the points in some blocks, ascending."""
        width = self.frame.cols
        parts = [
            self.order[self.starts[r * width + first_col] : self.starts[r * width + last_col]]
            for r in range(first_row, last_row)
        ]
        return np.sort(np.concatenate(parts)).astype(np.int64)


def blocks_of(cloud: Cloud, most: int = MOST) -> Blocks:
    """Lay a cloud out in square blocks of about so many points at the most.

    Parameters
    ----------
    cloud
        n points with an extent.
    most
        Points of a block.

    Returns
    -------
    Blocks
        The points by block.

    Examples
    --------
    >>> from moss_step.science.points.blocks import blocks_of
    >>> from moss_step.science.sample import scattered
    >>> blocks = blocks_of(scattered(20), most=100)
    >>> len(blocks), sum(int(block.own.sum()) for block in blocks.around(2.0))
    (4, 400)
    """
    frame = _layout(cloud, most)
    starts = np.zeros(frame.rows * frame.cols + 1, np.int64)
    np.cumsum(counts_in(cloud, frame).reshape(-1), out=starts[1:])
    order = room_for(len(cloud), np.int32 if len(cloud) < 2**31 else np.int64, isinstance(cloud.x, np.memmap))
    free, first = starts[:-1].copy(), 0
    for chunk in cloud.chunks():
        place_in_order(cells_of(chunk, frame), first, free, order)
        first += len(chunk)
    return Blocks(cloud, frame, starts, order)


def _layout(cloud: Cloud, most: int) -> Frame:
    """Blocks around a cloud, halved until none of them holds too many points."""
    assert cloud.bounds is not None  # noqa: S101 - a cloud without points has no blocks
    (xmin, ymin, xmax, ymax), _ = cloud.bounds
    pad = 1e-6 * max(xmax - xmin, ymax - ymin, 1.0)  # the outermost points lie within, whatever is rounded
    xmin, ymin, xmax, ymax = xmin - pad, ymin - pad, xmax + pad, ymax + pad
    middle = Frame(1, 1, xmin, ymax, 1.0, 1.0, cloud.crs)
    wide, high = middle.cell_metres if not middle.geographic else (1.0, 1.0)
    across, up = max((xmax - xmin) * wide, 1e-9), max((ymax - ymin) * high, 1e-9)
    parts = max(int(np.ceil(len(cloud) / most)), 1)
    for _ in range(18):
        side = (across * up / parts) ** 0.5
        cols, rows = max(round(across / side), 1), max(round(up / side), 1)
        frame = Frame(rows, cols, xmin, ymax, (xmax - xmin) / cols, (ymax - ymin) / rows, cloud.crs)
        if counts_in(cloud, frame).max() <= 2 * most or parts > 200_000:
            break
        parts *= 2
    return frame
