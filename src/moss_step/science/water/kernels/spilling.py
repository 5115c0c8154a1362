"""Kernels: over which passes the pools of a tile spill, as far as the tile alone tells, and where water runs
to from there.
"""

from __future__ import annotations

import numba
import numpy as np

from moss_step.science.water.kernels.neighbours import DC, DR, OUT
from moss_step.science.water.kernels.pools import root_cells, runs_on


@numba.njit(cache=True, nogil=True)
def one_flat(bottom, leaves, cell, tree):
    """Of each pit the first one, by its cell, on the same level ground: tiles leave each level cell that has
    no lower ground beside its flat, and whose flat goes on beyond them, a pit of its own.
    """
    height, one, other, _, _ = tree
    first = np.arange(bottom.size, dtype=np.int32)
    for e in range(height.size):
        a, b = one[e], other[e]
        if a == 0 or b == 0 or leaves[a] or leaves[b] or not height[e] == bottom[a] == bottom[b]:
            continue
        a, b = root_cells(first, a), root_cells(first, b)
        if cell[a] < cell[b]:
            first[b] = a
        else:
            first[a] = b
    for node in range(first.size):
        first[node] = root_cells(first, node)
    return first


@numba.njit(cache=True, nogil=True)
def settle(bottom, leaves, terminal, tree):
    """Raise the water over the passes of a tile, which are in ascending order. A pool that meets a lower one
    before any of the rest of the ground can spills there, whatever lies beyond the tile.

    ``bottom`` is infinite of what only leads on; ``terminal`` are the pools that reach the rim. Gives the
    pass that each pool spills over (-1: it is not known) and the node across it; and the passes that are left
    to be looked at with the rest of the ground, with the pools on their sides, or one of those that stand for
    what they are part of by then.
    """
    height, one, other, _, _ = tree
    nodes = bottom.size
    parent, deepest, known = np.arange(nodes, dtype=np.int32), np.arange(nodes, dtype=np.int32), bottom.copy()
    for_it = np.where(terminal, parent, np.int32(-1)).astype(np.int32)
    for_it[0] = 0
    for node in range(1, nodes):
        if leaves[node]:
            parent[node] = 0
    spill, far = np.full(nodes, -1, np.int32), np.zeros(nodes, np.int32)
    left, n = np.empty((3, height.size), np.int32), 0
    for e in range(height.size):
        a, b = root_cells(parent, one[e]), root_cells(parent, other[e])
        if a == b:
            continue
        gone, kept, decided = a, b, True
        if a == 0 or b == 0:
            gone, kept = (b, a) if a == 0 else (a, b)
            decided = for_it[gone] < 0
        elif for_it[a] < 0 and for_it[b] < 0:
            if not bottom[deepest[a]] > bottom[deepest[b]]:
                gone, kept = b, a
        elif for_it[a] >= 0 and for_it[b] >= 0:
            decided = False
        else:
            if for_it[b] < 0:
                gone, kept = b, a
            depth = bottom[deepest[gone]]
            # The lowest of the other side is as low as is known, or lower; of two as low the second is gone.
            decided = depth > known[kept] or (depth == known[kept] and gone == b)
        if decided:
            spill[deepest[gone]], far[deepest[gone]] = e, other[e] if gone == a else one[e]
        else:
            p = for_it[a] if for_it[a] >= 0 else deepest[a]
            q = for_it[b] if for_it[b] >= 0 else deepest[b]
            left[0, n], left[1, n], left[2, n] = e, p, q
            n += 1
            if kept != 0:
                known[kept] = min(known[kept], known[gone] if for_it[gone] >= 0 else bottom[deepest[gone]])
        parent[gone] = kept
    return spill, far, left[:, :n].copy()


@numba.njit(cache=True, nogil=True, parallel=True)
def run_on(ground, metres, top, far):
    """The pools that water runs to from the tops of passes, cells of a grid with one more cell on each side
    (-1: there is none); ``far`` are those on their far sides.
    """
    cols, out = ground.z.shape[1], np.zeros(top.size, np.int32)
    for n in numba.prange(top.size):
        if top[n] >= 0:
            out[n] = runs_on(ground, metres, top[n] // cols, top[n] % cols, far[n])
    return out


@numba.njit(cache=True, nogil=True)
def last_of_number(ways, numbers):
    """Cells whose water goes on to another number, or leaves the ground; ``numbers`` has one more cell on
    each side.
    """
    out = np.zeros(ways.shape, np.uint8)
    for r in range(ways.shape[0]):
        for c in range(ways.shape[1]):
            k = ways[r, c]
            if k < OUT:
                out[r, c] = numbers[r + 1 + DR[k], c + 1 + DC[k]] != numbers[r + 1, c + 1]
            else:
                out[r, c] = k == OUT
    return out
