"""Streams: where enough ground drains to a cell, joined to links from springs and junctions to junctions and
outlets.

Orders after Strahler 1957 (EOS 38), Shreve 1966 (Journal of Geology 74) and Horton 1945 (GSA Bulletin 56: the
main stem keeps its order up to its spring, by the larger catchment at each junction).
"""

from __future__ import annotations

import itertools
from dataclasses import dataclass

import numpy as np
import shapely

from moss_step.model.errors import MossError
from moss_step.model.progress import Progress, silent
from moss_step.model.shapes import Shapes
from moss_step.science.water.drainage import Drainage, Watered
from moss_step.science.water.kernels.neighbours import DC, DR, OUT
from moss_step.science.water.kernels.network import (
    carry_down,
    drop_lone,
    horton_orders,
    stream_orders,
    walk,
)
from moss_step.science.water.trace import centres, flow_lengths, lengths_of

MOST_LINKS = 500_000
_AT_ONCE = 20_000
"""Links that are worked on between two reports."""


@dataclass(frozen=True, eq=False)
class Network:
    """Links of a stream network: cells of each from its upper to its lower end, the link below each (-1:
    none), orders.

    The lower end of a link is the junction cell that it shares with others, or the outlet.
    """

    cells: list[np.ndarray]
    below: np.ndarray
    strahler: np.ndarray
    shreve: np.ndarray
    horton: np.ndarray


def stream_cells(
    drainage: Drainage,
    least_area: float,
    slope: np.ndarray | None = None,
    exponent: float = 0.0,
    within: np.ndarray | None = None,
    progress: Progress | None = None,
) -> np.ndarray:
    """Cells that streams run through (uint8): where the area upstream in square metres is ``least_area`` or
    more.

    With a slope in metres a metre the area times slope to the ``exponent`` is asked for, as channel heads
    follow both (Montgomery & Dietrich 1988, Nature 336); streams then run on downstream. ``within`` limits
    them to some cells.

    Parameters
    ----------
    drainage
        The ground prepared for water, by ``drainage.prepare``.
    least_area
        Least area in square metres.
    slope
        Slope in metres a metre.
    exponent
        Power of the slope.
    within
        Cells that count; all when left out.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    np.ndarray
        1 and 0, uint8 of shape (rows, cols).

    Source
    ------
    Montgomery & Dietrich 1988, Nature 336.

    Examples
    --------
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.water.drainage import prepare
    >>> from moss_step.science.water.network import stream_cells
    >>> stream_cells(prepare(tilted()), least_area=12.0)[1].tolist()
    [1, 1, 1, 0, 0]
    """
    progress = progress or silent()
    progress.at(0.0, "Finding streams")
    area = drainage.upstream_area
    if slope is not None:
        area = area * slope**exponent
    with np.errstate(invalid="ignore"):
        passed = (area >= least_area).astype(np.uint8)
    stream: np.ndarray = np.where(drainage.cells == 0, np.uint8(0), passed)
    if within is not None:
        stream &= within
    progress.at(0.5, "Following streams")
    carry_down(drainage.ways, stream)
    drop_lone(drainage.ways, stream)
    return stream


def network(drainage: Drainage, stream: np.ndarray, progress: Progress | None = None) -> Network:
    """Join stream cells to links, with their orders.

    Parameters
    ----------
    drainage
        The ground prepared for water, by ``drainage.prepare``.
    stream
        Cells of streams, uint8 of shape (rows, cols).
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    Network
        Links with their orders and ends.

    Raises
    ------
    MossError
        When there is no stream, or more than 500,000 links.

    Source
    ------
    Horton 1945, GSA Bulletin 56; Strahler 1957, Transactions AGU 38; Shreve 1966, Journal of Geology 74.

    Examples
    --------
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.water.drainage import prepare
    >>> from moss_step.science.water.network import network, stream_cells
    >>> drainage = prepare(tilted())
    >>> network(drainage, stream_cells(drainage, least_area=12.0)).strahler.tolist()
    [1, 1, 1, 1]
    """
    cells = np.flatnonzero(stream)
    ways, upstream = drainage.ways.reshape(-1)[cells], drainage.cells.reshape(-1)[cells]
    return joined(cells, ways, upstream, drainage.frame.cols, progress)


def receivers(cells: np.ndarray, ways: np.ndarray, cols: int) -> np.ndarray:
    """Places of the cells that cells run to, among these.

    Parameters
    ----------
    cells
        Numbers of cells, row by row, in ascending order.
    ways
        Direction of each of them as ``neighbours`` numbers them, uint8.
    cols
        Columns of the ground.

    Returns
    -------
    np.ndarray
        Places, int64; -1 where water leaves the cells.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.water.network import receivers
    >>> receivers(np.array([4, 5, 6]), np.array([8, 4, 4], np.uint8), 10).tolist()  # from east to west
    [-1, 0, 1]
    """
    way = np.minimum(ways, 7)
    to = np.where(ways < OUT, cells + DR[way] * cols + DC[way], -1)
    place = np.minimum(np.searchsorted(cells, to), max(len(cells) - 1, 0))
    return np.where(cells[place] == to, place, -1) if len(cells) else place


def joined(
    cells: np.ndarray, ways: np.ndarray, upstream: np.ndarray, cols: int, progress: Progress | None = None
) -> Network:
    """The network of stream cells that are listed: what ``network`` gives, without the rest of the ground.

    Parameters
    ----------
    cells
        Numbers of the stream cells, row by row, in ascending order; all that is downstream of one is there.
    ways
        Direction of each of them as ``neighbours`` numbers them, uint8.
    upstream
        How many cells are upstream of each.
    cols
        Columns of the ground.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    Network
        Links with their orders and ends.

    Raises
    ------
    MossError
        When there is no stream, or more than 500,000 links.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.water.network import joined
    >>> cells, ways = np.array([4, 5, 6]), np.array([8, 4, 4], np.uint8)  # from east to west
    >>> joined(cells, ways, np.array([3, 2, 1]), 10).cells[0].tolist()
    [6, 5, 4]
    """
    progress = progress or silent()
    progress.at(0.0, "Joining links")
    target = receivers(cells, ways, cols)
    feeders = np.bincount(target[target >= 0], minlength=len(cells))
    ends = int(np.count_nonzero(feeders != 1))
    if ends > MOST_LINKS:
        raise MossError(f"There would be about {ends:,} links.", "Ask for a larger area.")
    progress.at(0.3, "Walking links")
    places, starts = walk(target, feeders, ends)
    if len(starts) < 2:
        raise MossError("No stream has as much ground upstream.", "Ask for a smaller area.")
    progress.at(0.6, "Ordering links")
    upper, lower = places[starts[:-1]], places[starts[1:] - 1]
    place = np.minimum(np.searchsorted(upper, lower), len(upper) - 1)
    below = np.where(upper[place] == lower, place, -1)
    strahler, shreve, queue = stream_orders(below)
    horton = horton_orders(below, upstream[places[starts[1:] - 2]], strahler, queue)
    links = cells[places]
    return Network([links[a:b] for a, b in itertools.pairwise(starts)], below, strahler, shreve, horton)


def main_stems(
    drainage: Drainage, streams: Network, progress: Progress | None = None
) -> tuple[list[np.ndarray], np.ndarray]:
    """Whole streams: cells of each from its spring to where it joins a larger one or ends, and its highest
    Strahler order.

    At each junction the link of the larger catchment goes on, after Horton 1945; of two as large the one with
    the longer way, then the higher one.

    Parameters
    ----------
    drainage
        The ground prepared for water, by ``drainage.prepare``.
    streams
        The network, by ``network``.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    tuple[list[np.ndarray], np.ndarray]
        Cells of each stream (int64), and its highest order.

    Source
    ------
    Horton 1945, GSA Bulletin 56.

    Examples
    --------
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.water.drainage import prepare
    >>> from moss_step.science.water.network import main_stems, network, stream_cells
    >>> drainage = prepare(tilted())
    >>> stems, lengths = main_stems(drainage, network(drainage, stream_cells(drainage, least_area=12.0)))
    >>> len(stems)
    4
    """
    progress = progress or silent()
    ends = np.array([c[-2] for c in streams.cells])
    sizes, ways = (
        drainage.cells.reshape(-1)[ends],
        flow_lengths(drainage, True, progress=progress.part(0.0, 0.6)).reshape(-1)[ends],
    )
    progress.at(0.6, "Joining lines")
    main = np.full(len(sizes), -1)  # the link above that each link goes on from
    for k in np.lexsort((drainage.z.reshape(-1)[ends], np.round(ways, 6), sizes)):
        if streams.below[k] >= 0:
            main[streams.below[k]] = k
    carried_on = np.zeros(len(sizes), bool)
    carried_on[main[main >= 0]] = True
    stems, orders = [], []
    for n, end in enumerate(last := np.flatnonzero(~carried_on)):
        if n % _AT_ONCE == 0:
            progress.at(0.8 + 0.2 * n / len(last), "Joining lines")
        links, k = [], int(end)
        while k >= 0:
            links.append(k)
            k = int(main[k])
        parts = [streams.cells[k] for k in reversed(links)]
        stems.append(np.concatenate([*(c[:-1] for c in parts[:-1]), parts[-1]]))
        orders.append(int(streams.strahler[links].max()))
    return stems, np.array(orders)


def stream_lines(drainage: Watered, streams: Network, progress: Progress | None = None) -> Shapes:
    """The links as lines with from and to node, orders, length, drop, gradient, sinuosity and the area
    upstream.

    Drops are those of the water, which stands in pools at the height that they spill at: never below 0.

    Parameters
    ----------
    drainage
        The ground prepared for water, by ``drainage.prepare``.
    streams
        The network, by ``network``.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    Shapes
        Lines with their columns; lengths in metres.

    Examples
    --------
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.water.drainage import prepare
    >>> from moss_step.science.water.network import network, stream_cells, stream_lines
    >>> drainage = prepare(tilted())
    >>> stream_lines(drainage, network(drainage, stream_cells(drainage, least_area=12.0))).kind
    'lines'
    """
    progress = progress or silent()
    progress.at(0.0, "Measuring links")
    upper, lower = (np.array([c[k] for c in streams.cells]) for k in (0, -1))
    nodes = np.unique(np.concatenate([upper, lower]))
    progress.at(0.2, "Measuring links")
    length = lengths_of(drainage, streams.cells)
    progress.at(0.4, "Measuring links")
    top, foot = drainage.at(upper), drainage.at(lower)
    drop = (top.water - foot.water) * drainage.dem.metres_per_height
    progress.at(0.5, "Measuring links")
    straight = drainage.frame.distances(centres(drainage, upper), centres(drainage, lower))
    upstream = drainage.at(np.array([c[-2] for c in streams.cells])).area
    with np.errstate(divide="ignore", invalid="ignore"):
        sinuosity = np.where(straight > 0, length / straight, np.nan)
    columns: dict[str, np.ndarray] = {
        "link": np.arange(1, len(length) + 1),
        "from_node": np.searchsorted(nodes, upper) + 1,
        "to_node": np.searchsorted(nodes, lower) + 1,
        "strahler": streams.strahler,
        "shreve": streams.shreve,
        "horton": streams.horton,
        "length_m": length,
        "drop_m": drop,
        "gradient": drop / length,
        "sinuosity": sinuosity,
        "upstream_m2": upstream,
    }
    return Shapes(
        paths_as_lines(drainage, streams.cells, progress.part(0.6, 1.0)), columns, drainage.frame.crs
    )


def paths_as_lines(
    drainage: Watered, paths: list[np.ndarray], progress: Progress | None = None
) -> np.ndarray:
    """Paths of cells as lines through their centres.

    Parameters
    ----------
    drainage
        The ground prepared for water, by ``drainage.prepare``.
    paths
        Cells of each path, in order.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    np.ndarray
        Lines (n).

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.water.drainage import prepare
    >>> from moss_step.science.water.network import paths_as_lines
    >>> drainage = prepare(tilted())
    >>> paths_as_lines(drainage, [np.array([2, 1, 0])])[0].length
    4.0
    """
    out = np.empty(len(paths), object)
    for first, last in (progress or silent()).blocks(len(paths), _AT_ONCE, "Drawing lines"):
        some = paths[first:last]
        which = np.repeat(np.arange(len(some)), [len(c) for c in some])
        out[first:last] = shapely.linestrings(centres(drainage, np.concatenate(some)), indices=which)
    return out


def stream_nodes(drainage: Watered, streams: Network, progress: Progress | None = None) -> Shapes:
    """Springs, junctions and outlets of a network as points.

    Parameters
    ----------
    drainage
        The ground prepared for water, by ``drainage.prepare``.
    streams
        The network, by ``network``.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    Shapes
        Points with their columns.

    Examples
    --------
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.water.drainage import prepare
    >>> from moss_step.science.water.network import network, stream_cells, stream_nodes
    >>> drainage = prepare(tilted())
    >>> nodes = stream_nodes(drainage, network(drainage, stream_cells(drainage, least_area=12.0)))
    >>> nodes.kind
    'points'
    """
    progress = progress or silent()
    progress.at(0.0, "Finding nodes")
    upper, lower = (np.array([c[k] for c in streams.cells]) for k in (0, -1))
    nodes = np.unique(np.concatenate([upper, lower]))
    progress.at(0.4, "Counting what meets")
    into = np.bincount(np.searchsorted(nodes, lower), minlength=len(nodes))
    leaves = ~np.isin(nodes, upper)
    kinds = np.where(leaves, "outlet", np.where(into == 0, "spring", "junction")).astype(object)
    there = drainage.at(nodes)
    columns = {
        "node": np.arange(1, len(nodes) + 1),
        "kind": kinds,
        "links_in": into,
        "height": there.height.astype(float),
        "upstream_m2": there.area,
    }
    return Shapes(
        np.asarray(shapely.points(centres(drainage, nodes))),
        columns,
        drainage.frame.crs,
        {"height": drainage.dem.unit.symbol},
    )


def last_own_cells(drainage: Watered, streams: Network) -> np.ndarray:
    """Last cell of each link before the junction (int64): what drains there and not to a link above belongs
    to the link.

    Where links meet in the cell that their water leaves the ground at, that cell goes with the largest of
    them.

    Parameters
    ----------
    drainage
        The ground prepared for water, by ``drainage.prepare``.
    streams
        The network, by ``network``.

    Returns
    -------
    np.ndarray
        Numbers of cells, int64.

    Examples
    --------
    >>> from moss_step.science.sample import tilted
    >>> from moss_step.science.water.drainage import prepare
    >>> from moss_step.science.water.network import last_own_cells, network, stream_cells
    >>> drainage = prepare(tilted())
    >>> last_own_cells(drainage, network(drainage, stream_cells(drainage, least_area=12.0))).tolist()
    [0, 5, 10, 15]
    """
    last, above = np.array([c[-1] for c in streams.cells]), np.array([c[-2] for c in streams.cells])
    order = np.argsort(-drainage.at(above).upstream, kind="stable")
    _, first = np.unique(last[order], return_index=True)
    ends = above.copy()
    main = order[first]
    ends[main] = np.where(streams.below[main] < 0, last[main], above[main])
    return ends
