"""What lies upstream of each cell of a ground in tiles where water is shared out among several neighbours:
what enters a tile at its rim is not led to single cells of it, so tiles are gone over until none changes,
each time over the cells alone that come of something else than before.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from moss_step.large.crew import Crew, Work
from moss_step.large.sides import Sides, ring, sides_of
from moss_step.large.tiling import Tile
from moss_step.large.water import rounds
from moss_step.large.water.flow import Amount, Weights, own_amounts, weights_of
from moss_step.large.water.ground import Ground
from moss_step.large.water.rounds import Fixed, Known, Notes, Rims
from moss_step.model.arrays import read_only
from moss_step.model.progress import Progress
from moss_step.science.water.accumulation import FlowMethod, shared_out
from moss_step.science.water.kernels.accumulation import (
    NO_ORDER,
    Shared,
    accumulate_again,
    accumulate_shared,
    mark_donors,
    mark_senders,
)
from moss_step.science.water.kernels.neighbours import NONE, Drained

_AROUND = 2
"""Cells around a tile that count: those beside it send water in, by what lies around them."""


@dataclass(frozen=True)
class Sharing:
    """How water is shared out."""

    method: FlowMethod
    exponent: float

    def shared(self, ground: Ground, tile: Tile) -> Shared:
        """How the cells of a tile, and one more on each side, share theirs out; the filled ground and its
        ways are at hand.
        """
        z = ground.scratch.window("filled", tile, _AROUND, np.float32(np.nan))
        ways = ground.scratch.window("ways", tile, _AROUND, NONE)
        metres = ground.metres_around(tile, _AROUND)
        made = shared_out(Drained(z, read_only(ways), metres), self.method, self.exponent)
        around, inner = np.ascontiguousarray(metres[1:-1]), _inner(ways)
        return Shared(
            _inner(z),
            read_only(inner),
            around,
            self.exponent,
            _inner(made.whole),
            _inner(made.facets),
        )


def _inner(array: np.ndarray) -> np.ndarray:
    return np.ascontiguousarray(array[1:-1, 1:-1])


class _Read(NamedTuple):
    """How the cells of a tile, and one more on each side, share their water out; the donors of each; what it
    holds by itself, and so far in all (amounts, rows, cols); an order that has each after its donors; and
    what lies around.
    """

    shared: Shared
    donors: np.ndarray
    own: np.ndarray
    total: np.ndarray
    order: np.ndarray
    rims: Rims


@dataclass(frozen=True)
class Upstream:
    """Amounts of a ground whose water is shared out."""

    ground: Ground
    sharing: Sharing
    what: tuple[Amount, ...]
    weights: Weights | None = None

    @property
    def name(self) -> str:
        """What tiles keep them under."""
        weighed = () if self.weights is None else ("weighed",)
        return "-".join(("shared", self.sharing.method, repr(self.sharing.exponent), *self.what, *weighed))

    @property
    def how(self) -> str:
        """What tiles keep it under how their cells share water out, and in what order they are added up."""
        return f"how-{self.name}"

    def of(self, tile: Tile) -> np.ndarray:
        """They, of each cell of a tile (amounts, rows, cols)."""
        return self.ground.scratch.load(self.name, tile)[:, 1:-1, 1:-1]


class ShareWork(Work):
    """One round: amounts of the cells of tiles, from what is known around each by the time that it is worked
    on.
    """

    side_by_side = True

    def __init__(self, upstream: Upstream, known: Known | Fixed) -> None:
        self.upstream, self.known = upstream, known

    def for_tile(self, tile: Tile) -> ShareWork:
        """What one tile needs."""
        return ShareWork(self.upstream, Fixed.of(self.known, tile))

    def read(self, tile: Tile) -> _Read:
        """What its cells hold, send and are sent."""
        some, scratch = self.upstream, self.upstream.ground.scratch
        if self.known.first(tile):
            shared, order = some.sharing.shared(some.ground, tile), NO_ORDER
            donors = np.empty(shared.ways.shape, np.uint8)
            mark_donors(shared, 1, donors)
        else:
            z, ways, metres, whole, facets, donors, order = scratch.load_some(some.how, tile, 7)
            shared = Shared(z, read_only(ways), metres, some.sharing.exponent, whole, facets)
        own = own_amounts(some.ground, tile, some.what, shared.ways, weights_of(some.weights, tile))
        if self.known.first(tile):
            total = np.zeros((len(own), *shared.ways.shape))
            total[:, 1:-1, 1:-1] = own
        else:
            total = scratch.load(some.name, tile)
        return _Read(shared, donors, own, total, order, self.known.around(tile))

    def work_out(self, tile: Tile, read: _Read) -> np.ndarray:
        """Amounts of its cells; gives the order that these are added up in."""
        shared, donors, own, total, order, rims = read
        at, around = ring(*own.shape[1:]), np.array(rims)
        changed = (total[:, *at] != around).any(axis=0)
        total[:, *at] = around
        if not self.known.first(tile):
            accumulate_again(shared, donors, np.column_stack(at)[changed], own, total, order)
            return order
        order = np.empty(own[0].size, np.int32)
        count = accumulate_shared(shared, 1, donors, total, order, np.zeros(2, np.int64))
        return order[:count]

    def finish(self, tile: Tile, read: _Read, order: np.ndarray) -> tuple[list[Sides], Rims]:
        """Keep them; gives what those along the sides hold that send water out, and what it comes of."""
        scratch, how = self.upstream.ground.scratch, read.shared
        scratch.save(self.upstream.name, tile, read.total)
        if self.known.first(tile):
            kept = how.z, how.ways, how.metres, how.whole, how.facets, read.donors, order
            scratch.save(self.upstream.how, tile, *kept)
        sends = np.zeros(how.ways.shape, np.uint8)
        mark_senders(how, sends)
        on = sides_of(sends[1:-1, 1:-1])
        return [_where(sides_of(field[1:-1, 1:-1]), on) for field in read.total], read.rims


def _where(sides: Sides, on: Sides) -> Sides:
    top, right, bottom, left = (np.where(o > 0, s, 0.0) for s, o in zip(sides, on, strict=True))
    return top, right, bottom, left


def add_up(upstream: Upstream, crew: Crew, progress: Progress) -> None:
    """Have amounts at hand; the filled ground and its ways are."""
    scratch = upstream.ground.scratch
    if upstream.weights is None and scratch.finished(upstream.name):
        return
    known = Known(scratch.tiling, len(upstream.what), np.float64)
    work = ShareWork(upstream, known)
    doing, notes = "Adding up what lies upstream", Notes(scratch, f"{upstream.name}-noted")
    if upstream.weights is not None:  # what is there may be of other weights
        notes.drop()
    rounds.settle(crew, known, list(scratch.tiling), work, notes, progress, doing)
    if upstream.weights is None:
        scratch.finish(upstream.name)
    scratch.drop(upstream.how)
    notes.drop()
