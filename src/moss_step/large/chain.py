"""Steps that look no farther than around a cell, worked out together tile by tile: from the files of their
sources to the files of those results that are wanted, with nothing between written.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from functools import partial
from typing import Any

from moss_step.formats.tiled import TiledFile
from moss_step.formats.windows import GridReader, GridSource
from moss_step.kinds.registry import cells_of, cut_to
from moss_step.large.crew import Once, Work
from moss_step.large.held import OnDisk
from moss_step.large.tiling import Tile, grown, widened, within
from moss_step.model.outcome import Outcome, Value
from moss_step.model.progress import silent
from moss_step.model.surface import Surface
from moss_step.model.typed import of_kind
from moss_step.steps.catalogue import step_kind
from moss_step.steps.results import surface_outcome
from moss_step.study.declared import as_part, run_declared
from moss_step.study.told import Said, Span, retold, said_by

Margin = tuple[int, int]
Readers = Mapping[str, GridReader]


@dataclass(frozen=True)
class Link:
    """One step of a chain: its result's name, its kind, its inputs as names of sources or of earlier steps,
    its settings, and how far it looks, in rows and columns.
    """

    ref: str
    kind: str
    inputs: Mapping[str, str]
    settings: Mapping[str, Any]
    reach: Margin


@dataclass(frozen=True)
class Chain:
    """Steps in order, the grids that they read, the values that are given as they are, the results that are
    wanted, and the files that these go to.
    """

    sources: Mapping[str, OnDisk]
    given: Mapping[str, Value]
    links: tuple[Link, ...]
    wanted: tuple[str, ...]
    targets: Mapping[str, TiledFile] = field(default_factory=dict)
    told: tuple[str, ...] = ()
    """Sources of which it is said, too, what their values are."""

    @property
    def shape(self) -> tuple[int, int]:
        """Rows and columns of the ground."""
        return next(iter(self.sources.values())).frame.shape

    def base(self, ref: str) -> float:
        """What the double values of an input are levelled by: one number for all tiles."""
        given = of_kind(self.given.get(ref), Surface)
        if given is not None:
            return given.base
        return self.sources[ref].base if ref in self.sources else 0.0

    def margins(self) -> dict[str, Margin]:
        """Rows and columns that are wanted of each source and result around a tile."""
        result: dict[str, Margin] = {}
        for link in reversed(self.links):
            own = result.setdefault(link.ref, (0, 0))
            for ref in link.inputs.values():
                before = result.get(ref, (0, 0))
                result[ref] = (
                    max(before[0], own[0] + link.reach[0]),
                    max(before[1], own[1] + link.reach[1]),
                )
        return result


@dataclass(frozen=True)
class Done:
    """What became of a tile: what each result says of it, the hashes of what was written, what is wrong with
    the sources there, and which of them have had infinite values.
    """

    said: Mapping[str, Said]
    hashes: Mapping[str, str]
    wrong: tuple[str, ...] = ()
    infinite: tuple[str, ...] = ()


@dataclass(frozen=True)
class Part:
    """A tile that was read: values of the sources with their margins, what is wrong with them, and which of
    them had infinite values.
    """

    values: Mapping[str, Value]
    wrong: tuple[str, ...]
    infinite: tuple[str, ...]


def read(chain: Chain, tile: Tile, readers: Readers) -> Part:
    """Read what a tile needs of the sources."""
    margins, values, wrong, infinite = chain.margins(), dict[str, Value](), list[str](), list[str]()
    for ref, held in chain.sources.items():
        rows, cols = _outer(chain, tile, margins.get(ref, (0, 0)))
        values[ref], why = held.part(readers[ref], rows, cols)
        wrong += [why] if why else []
        infinite += [ref] if readers[ref].infinite else []
    return Part(values, tuple(wrong), tuple(infinite))


def worked_out(chain: Chain, tile: Tile, part: Part) -> dict[str, Outcome]:
    """The results of a chain that are wanted, in a tile without its margin, each with what is said of it; and
    what is said of sources.
    """
    inner, result = (tile.rows, tile.cols), dict[str, Outcome]()
    for ref in chain.told:
        has = _outer(chain, tile, chain.margins().get(ref, (0, 0)))
        surface = of_kind(_within(part.values[ref], has, inner), Surface)
        if surface is not None:
            result[ref] = surface_outcome(surface)
    for made in _one_by_one(chain, tile, part):
        link = made.link
        if link.ref in chain.wanted:
            step = step_kind(link.kind)
            seen = {n: _within(v, made.cut, inner) for n, v in made.fed.items()}
            value = _within(made.outcome.value, made.cut, inner)
            part_of = within(inner[0], made.cut[0]), within(inner[1], made.cut[1])
            settings = step.checked(dict(link.settings))
            result[link.ref] = retold(step, settings, made.outcome, value, seen, part_of)
    return result


def last_value(chain: Chain, tile: Tile, part: Part) -> Value:
    """What the last step of a chain gives in a tile without its margin; nothing is said of it."""
    *_, made = _one_by_one(chain, tile, part)
    return _within(made.outcome.value, made.cut, (tile.rows, tile.cols))


@dataclass(frozen=True)
class _Made:
    """A link that was worked out: what it was fed, in which rows and columns, and what came of it there."""

    link: Link
    fed: Mapping[str, Value]
    cut: Span
    outcome: Outcome


def _one_by_one(chain: Chain, tile: Tile, part: Part) -> Iterator[_Made]:
    """Work out the links of a chain in a tile, each with the margin that later ones need."""
    margins, values = chain.margins(), {**chain.given, **part.values}
    everything = slice(0, chain.shape[0]), slice(0, chain.shape[1])
    spans = dict.fromkeys(chain.given, everything)
    spans |= {ref: _outer(chain, tile, margins.get(ref, (0, 0))) for ref in part.values}
    for link in chain.links:
        step, own = step_kind(link.kind), _outer(chain, tile, margins[link.ref])
        rows, cols = (widened(o, m, n) for o, m, n in zip(own, link.reach, chain.shape, strict=True))
        cut = {n: _within(values[ref], spans[ref], (rows, cols)) for n, ref in link.inputs.items()}
        fed = {n: as_part(v, chain.base(link.inputs[n])) for n, v in step.taken(cut).items()}
        outcome = run_declared(step, link.settings, fed, silent())
        values[link.ref], spans[link.ref] = _within(outcome.value, (rows, cols), own), own
        yield _Made(link, cut, (rows, cols), outcome)


def write(chain: Chain, tile: Tile, results: Mapping[str, Outcome], part: Part) -> Done:
    """Write the results of a tile to their files."""
    hashes = {
        ref: chain.targets[ref].write(tile.rows, tile.cols, cells_of(outcome.value))
        for ref, outcome in results.items()
        if ref in chain.targets
    }
    return Done({ref: said_by(o) for ref, o in results.items()}, hashes, part.wrong, part.infinite)


def _outer(chain: Chain, tile: Tile, margin: Margin) -> Span:
    rows, cols = chain.shape
    return (
        widened(grown(tile.rows, rows), margin[0], rows),
        widened(grown(tile.cols, cols), margin[1], cols),
    )


def _within(value: Value, has: Span, wanted: Span) -> Value:
    """Cut a value that spans some rows and columns to others within these; what is no grid stays whole."""
    return cut_to(value, within(wanted[0], has[0]), within(wanted[1], has[1]))


def readers_of(sources: Mapping[str, GridSource]) -> dict[str, GridReader]:
    """Files of grids, opened."""
    return {ref: GridReader(source) for ref, source in sources.items()}


class ChainWork(Work):
    """The work of a chain on tiles, as a crew does it; its files are opened where it is done."""

    def __init__(self, chain: Chain) -> None:
        self.chain = chain
        self._readers = Once(partial(readers_of, {ref: s.source for ref, s in chain.sources.items()}))

    def read(self, tile: Tile) -> Part:
        """What the tile needs of the sources."""
        return read(self.chain, tile, self._readers.get())

    def work_out(self, tile: Tile, part: Part) -> dict[str, Outcome]:
        """The wanted results in the tile."""
        return worked_out(self.chain, tile, part)

    def finish(self, tile: Tile, part: Part, results: dict[str, Outcome]) -> Done:
        """Write them."""
        return write(self.chain, tile, results, part)
