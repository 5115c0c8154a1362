"""The pools of a ground: which cells run down to which pit, over which passes pools spill, and how deep they
are.

The graph of pits and lowest passes of Cordonnier, Bovy & Braun 2019, A versatile, linear complexity algorithm
for flow routing in topographies with depressions, Earth Surface Dynamics 7; its spanning tree after Boruvka
1926. The water level of a pit is the highest pass on its way out along the tree, which gives the same filled
ground as a priority flood (Barnes, Lehman & Mulla 2014). The depth of a pool is its persistence: the height
it rises before it spills to a lower one.
"""

from __future__ import annotations

from dataclasses import dataclass

import numba
import numpy as np

from moss_step.model.arrays import read_only
from moss_step.model.memory import give_back
from moss_step.model.progress import Progress
from moss_step.science.water.flats import drain_flats
from moss_step.science.water.kernels.descent import descend
from moss_step.science.water.kernels.neighbours import DRY, OUT, Filled
from moss_step.science.water.kernels.pools import (
    Nodes,
    Passes,
    Tree,
    border_cells,
    deaths,
    join_parts,
    label_ends,
    levels,
    lowest_over,
    lowest_passes,
    number_ends,
    roots,
    spills,
)

_LARGE = 1024
"""Cells of a part on average from which on few of them lie beside another one."""
OUTSIDE = 0
"""The node that all water leaves to; pits and outlets are numbered from 1."""


@dataclass(frozen=True, eq=False)
class Pools:
    """The pits of a ground and how they spill; arrays of n + 1 values with the outside first.

    ``labels`` gives each cell's node (0 for no-data). ``cell`` is the pit's or outlet's cell, ``level`` the
    height that water stands at when the whole ground is filled, ``depth`` the pool's depth when it spills to
    a lower one, ``across`` the node it spills to (0: it leaves the ground), and ``over`` the cell it spills
    at.
    """

    labels: np.ndarray
    cell: np.ndarray
    level: np.ndarray
    depth: np.ndarray
    across: np.ndarray
    over: np.ndarray

    def roots(self, least_depth: float) -> np.ndarray:
        """The node that each node's water ends in when pools shallower than ``least_depth`` spill."""
        result: np.ndarray = roots(self.across, self.depth, least_depth)
        return result


def find_pools(z: np.ndarray, metres: np.ndarray, progress: Progress) -> tuple[Pools, np.ndarray]:
    """Find the pools of a float32 grid, and the ways that lead down to them (uint8, as ``neighbours`` numbers
    them).

    ``metres`` are the distances of ``neighbours.distances``.

    Parameters
    ----------
    z
        Heights of shape (rows, cols).
    metres
        Distances to the neighbours by row, (rows, 3).
    progress
        Takes reports, and stops the work by StoppedError when that is asked for; silent when left out.

    Returns
    -------
    tuple[Pools, np.ndarray]
        The pools, and the ways, uint8.

    Source
    ------
    Barnes, Lehman & Mulla 2014, Priority-flood, Computers & Geosciences 62.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.model.progress import silent
    >>> from moss_step.science.sample import bowl
    >>> from moss_step.science.water.neighbours import distances
    >>> from moss_step.science.water.pools import find_pools
    >>> z = bowl().values.astype(np.float32)
    >>> pools, ways = find_pools(z, distances(bowl().frame), silent())
    >>> float(pools.depth.max())
    3.0
    """
    z, rows = read_only(z), z.shape[0]
    descent, labels = np.empty(z.shape, np.uint8), np.zeros(z.shape, np.int32)
    for first, last in progress.part(0.0, 0.2).blocks(rows, 1024, "Finding ways down"):
        descend(z, metres, first, last, descent)
    drain_flats(Filled(z, labels, DRY), descent, np.zeros(z.shape, np.int32), progress.part(0.2, 0.3))
    give_back()
    progress.at(0.3, "Following ways down")
    cell = number_ends(descent, labels)
    progress.at(0.35, "Following ways down")
    label_ends(descent, labels)
    progress.at(0.4, "Finding passes")
    leaves = np.append(False, descent.reshape(-1)[cell[1:]] == OUT)
    tree = spanning_tree(z, labels, cell, leaves, progress.part(0.4, 0.6))
    bottom = np.append(np.float32(-np.inf), z.reshape(-1)[cell[1:]]).astype(np.float32)
    progress.at(0.6, "Finding levels")
    level = levels(len(cell), tree)
    progress.at(0.65, "Ordering passes")
    # Passes that are as high are in order of rows, so that parts of a ground tell the same.
    order = np.lexsort((tree.at.astype(np.int64) * 9 + tree.way, tree.height))
    tree = Tree(*(some[order] for some in tree))
    progress.at(0.7, "Filling pools")
    pits = Nodes(cell, bottom, leaves, *deaths(bottom, leaves, tree))
    depth, across, over = spills(Filled(z, labels, level), metres, pits, tree)
    return Pools(labels, cell, level, depth, across, over), descent


def room_for_passes(strips: int, parts: int) -> Passes:
    """Room for the lowest pass out of each part of a tree, by strips of the grid; nothing is noted yet.

    Parameters
    ----------
    strips
        Strips of the grid.
    parts
        Parts of the tree, the outside among them.

    Returns
    -------
    Passes
        Heights, float32, and codes: nine times the cell and more, which 32 bits hold of 238 million cells
        alone, and so int64.

    Examples
    --------
    >>> from moss_step.science.water.pools import room_for_passes
    >>> room_for_passes(2, 5).where.shape
    (2, 5)
    """
    return Passes(np.empty((strips, parts), np.float32), np.empty((strips, parts), np.int64))


Sides = tuple[bool, bool, bool, bool]
"""Whether water leaves over the top, right, bottom and left side of a grid."""


def spanning_tree(
    z: np.ndarray,
    labels: np.ndarray,
    cell: np.ndarray,
    leaves: np.ndarray,
    progress: Progress,
    open_at: Sides = (True, True, True, True),
) -> Tree:
    """Lowest passes that join all pits and outlets to the outside, as far as there are any.

    Nodes that water ``leaves`` the ground at are joined to the outside from the start.

    Parameters
    ----------
    z
        Heights of shape (rows, cols), float32.
    labels
        The node of each cell, int32; 0 is no ground.
    cell
        The flat index of each node's pit or outlet; -1 for the outside.
    leaves
        Whether water leaves the ground at a node.
    progress
        Takes reports, and stops the work by StoppedError when that is asked for.
    open_at
        Whether water leaves over the top, right, bottom and left side: a tile of a larger ground has sides
        that it does not.

    Returns
    -------
    Tree
        The passes, in the order in which they were found.

    Source
    ------
    Cordonnier, Bovy & Braun 2019, Earth Surface Dynamics 7; Boruvka 1926.

    Examples
    --------
    >>> import numpy as np
    >>> from moss_step.model.progress import silent
    >>> from moss_step.science.water.pools import spanning_tree
    >>> z = np.array([[1, 5, 2]], np.float32)
    >>> labels, cell = np.array([[1, 1, 2]], np.int32), np.array([-1, 0, 2], np.int32)
    >>> tree = spanning_tree(z, labels, cell, np.array([False, True, True]), silent())
    >>> tree.height.tolist()
    [1.0, 2.0]
    """
    z, nodes = read_only(z), len(cell)
    part = np.where(leaves, 0, np.cumsum(~leaves) - 1).astype(np.int32)
    tree = Tree(*(np.empty(nodes - 1, kind) for kind in (np.float32, np.int32, np.int32, np.int32, np.int8)))
    out = np.flatnonzero(leaves)
    gained, before = len(out), -1
    for some, first in zip(tree, (z.reshape(-1)[cell[out]], out, OUTSIDE, cell[out], 8), strict=True):
        some[:gained] = first
    parts, strips = nodes - gained, max(1, min(2 * numba.get_num_threads(), z.shape[0] // 32))
    borders: np.ndarray | None = None
    while gained < nodes - 1 and gained > before:
        progress.at(gained / (nodes - 1), "Finding passes")
        passes = room_for_passes(strips, parts)
        if borders is None:
            lowest_passes(z, labels, part, passes, open_at)
        else:
            lowest_over(z, labels, part, borders, passes, open_at)
        before = gained
        progress.at(gained / (nodes - 1), "Joining pools")
        parts, gained = join_parts(labels, part, passes, tree, gained)
        if borders is None and parts * _LARGE < z.size:
            borders = border_cells(labels, part)
    return Tree(*(some[:gained] for some in tree))
