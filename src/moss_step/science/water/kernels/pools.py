"""Kernels: the pools of a ground: which cells run down to which pit, over which passes pools spill, and how
deep they are.
"""

from __future__ import annotations

from typing import NamedTuple

import numba
import numpy as np

from moss_step.science.water.kernels.neighbours import DC, DR, NONE, OUT, PIT, span, stands


class Passes(NamedTuple):
    """Lowest passes out of the parts of a tree, by strips of the grid, of shape (strips, parts): heights, and
    cells times 9 plus direction (8: outside).
    """

    best: np.ndarray
    where: np.ndarray


class Tree(NamedTuple):
    """Passes that join all pools: their heights, the nodes on both sides, their cells and the directions
    across (8: outside).
    """

    height: np.ndarray
    one: np.ndarray
    other: np.ndarray
    at: np.ndarray
    way: np.ndarray


class Nodes(NamedTuple):
    """Pits and outlets, the outside first: cells, heights, whether water leaves the ground there, the pass
    that each spills over (-1: none), and the node across it.
    """

    cell: np.ndarray
    bottom: np.ndarray
    leaves: np.ndarray
    spill: np.ndarray
    across: np.ndarray


@numba.njit(cache=True, nogil=True)
def number_ends(descent, labels):
    """Number pits and outlets from 1 in order of rows; gives the cell of each."""
    rows, cols = descent.shape
    count = 0
    for r in range(rows):
        for c in range(cols):
            count += (descent[r, c] == PIT) | (descent[r, c] == OUT)
    cell = np.empty(count + 1, np.int32)
    cell[0] = -1
    n = 0
    for r in range(rows):
        for c in range(cols):
            if descent[r, c] == PIT or descent[r, c] == OUT:
                n += 1
                labels[r, c] = n
                cell[n] = r * cols + c
    return cell


@numba.njit(cache=True, nogil=True, parallel=True)
def label_ends(descent, labels):
    """Give each cell the number of the end that it runs to.

    Strips follow their cells at once; two may write the same label to a cell, which does no harm.
    """
    rows, cols = descent.shape
    strips = (rows + 63) // 64
    for s in numba.prange(strips):
        for r in range(s * 64, min(s * 64 + 64, rows)):
            for c in range(cols):
                if labels[r, c] > 0 or descent[r, c] == NONE:
                    continue
                i, j = r, c
                while labels[i, j] == 0:
                    k = descent[i, j]
                    i, j = i + DR[k], j + DC[k]
                end = labels[i, j]
                i, j = r, c
                while labels[i, j] == 0:
                    k = descent[i, j]
                    labels[i, j] = end
                    i, j = i + DR[k], j + DC[k]


@numba.njit(cache=True, nogil=True)
def parts_of_row(labels, part, r, out):
    """Parts of the tree along a row; all outside beyond the grid."""
    if 0 <= r < labels.shape[0]:
        for c in range(labels.shape[1]):
            out[c] = part[labels[r, c]]
    else:
        out[:] = 0


@numba.njit(cache=True, nogil=True, error_model="numpy")
def lowest_beside(z, parts, least):
    """Of each cell of a row but the outermost the lowest neighbour in another part: infinite where there is
    none, NaN where one of them is no ground. ``z`` and ``parts`` are those of the row above, its own and the
    one below.
    """
    (z0, z1, z2), (p0, p1, p2) = z, parts
    none = np.float32(np.inf)
    for c in range(p1.size - 2):  # without branches, so that many cells are done at once
        own = p1[c + 1]
        m = min(z0[c] if p0[c] != own else none, z0[c + 1] if p0[c + 1] != own else none)
        m = min(m, z0[c + 2] if p0[c + 2] != own else none)
        m = min(m, z1[c] if p1[c] != own else none)
        m = min(m, z1[c + 2] if p1[c + 2] != own else none)
        m = min(m, z2[c] if p2[c] != own else none)
        m = min(m, z2[c + 1] if p2[c + 1] != own else none)
        m = min(m, z2[c + 2] if p2[c + 2] != own else none)
        every = z0[c] + z0[c + 1] + z0[c + 2] + z1[c] + z1[c + 2] + z2[c] + z2[c + 1] + z2[c + 2]
        least[c + 1] = m if every == every else every


@numba.njit(cache=True, nogil=True)
def pass_at(z, labels, part, open_at, cell):
    """The lowest pass out of its part over one cell: its height (infinite: there is none) and code; of those
    that are as high the first one in order of rows.

    The code is nine times a cell, and a direction: of two cells the upper or left one, and 8 where one of
    them is outside. Over a side of the grid that is not open there is none.
    """
    (rows, cols), (top, right, bottom, left) = z.shape, open_at
    r, c = cell // cols, cell % cols
    own, low, at = part[labels[r, c]], np.float32(np.inf), np.int64(-1)
    for k in range(8):
        i, j = r + DR[k], c + DC[k]
        height, code = z[r, c], cell * 9 + 8
        if not (0 <= i < rows and 0 <= j < cols):
            opened = (top or i >= 0) and (left or j >= 0) and (right or j < cols) and (bottom or i < rows)
            if not opened:
                continue
        elif labels[i, j] > 0:
            if part[labels[i, j]] == own:
                continue
            height = max(height, z[i, j])
            code = cell * 9 + k if k < 4 else (i * cols + j) * 9 + (k ^ 4)
        if height < low or (height == low and code < at):
            low, at = height, code
    return low, at


@numba.njit(cache=True, nogil=True, parallel=True)
def lowest_passes(z, labels, part, passes, open_at):
    """Lowest pass out of each part of the tree, by strips; ``open_at`` says of the sides at the top, right,
    bottom and left whether water leaves over them.

    While it is looked for, a cell alone stands for its pass, as -1 less its number: which way it leads is
    asked at the end, or where two are as high.
    """
    (rows, cols), (best, where) = z.shape, passes
    strips = len(best)
    for s in numba.prange(strips):
        low, at = best[s], where[s]
        low[:] = np.inf
        first, last = s * rows // strips, (s + 1) * rows // strips
        above, here, below = (np.zeros(cols, np.int32), np.zeros(cols, np.int32), np.zeros(cols, np.int32))
        least = np.empty(cols, np.float32)
        parts_of_row(labels, part, first - 1, above)
        parts_of_row(labels, part, first, here)
        for r in range(first, last):
            parts_of_row(labels, part, r + 1, below)
            inner = 0 < r < rows - 1
            if inner:
                lowest_beside((z[r - 1], z[r], z[r + 1]), (above, here, below), least)
            for c in range(cols):
                own, cell, code = here[c], r * cols + c, np.int64(-1)
                if own == 0:
                    continue
                height = max(z[r, c], least[c]) if inner and 0 < c < cols - 1 else np.float32(np.nan)
                if height > low[own] or height == np.inf:
                    continue
                if height != height:
                    height, code = pass_at(z, labels, part, open_at, cell)
                if height < low[own]:
                    low[own], at[own] = height, -1 - cell if code < 0 else code
                elif height == low[own] and height < np.inf:
                    if (at[own] if at[own] >= 0 else (-1 - at[own]) * 9 + 8) < (cell - cols - 1) * 9:
                        continue  # all passes over this cell come later in order of rows
                    if at[own] < 0:
                        at[own] = pass_at(z, labels, part, open_at, -1 - at[own])[1]
                    at[own] = min(at[own], pass_at(z, labels, part, open_at, cell)[1])
            above, here, below = here, below, above
        for own in range(low.size):
            if low[own] < np.inf and at[own] < 0:
                at[own] = pass_at(z, labels, part, open_at, -1 - at[own])[1]


@numba.njit(cache=True, nogil=True)
def beside_others(parts, out):
    """Whether cells of a row but the outermost have a neighbour in another part; ``parts`` are those of the
    row above, its own and the one below.
    """
    p0, p1, p2 = parts
    for c in range(p1.size - 2):
        own = p1[c + 1]
        other = (p0[c] != own) | (p0[c + 1] != own) | (p0[c + 2] != own) | (p1[c] != own) | (p1[c + 2] != own)
        out[c + 1] = (other | (p2[c] != own) | (p2[c + 1] != own) | (p2[c + 2] != own)) & (own != 0)


@numba.njit(cache=True, nogil=True)
def borders_of_row(labels, part, r, out):
    """Whether cells of a row lie in a part of their own that ends beside them."""
    rows, cols = labels.shape
    above, here, below = np.zeros(cols, np.int32), np.zeros(cols, np.int32), np.zeros(cols, np.int32)
    parts_of_row(labels, part, r, here)
    out[:] = here != 0  # at a side of the grid all do
    if 0 < r < rows - 1:
        parts_of_row(labels, part, r - 1, above)
        parts_of_row(labels, part, r + 1, below)
        beside_others((above, here, below), out)


@numba.njit(cache=True, nogil=True, parallel=True)
def border_cells(labels, part):
    """Cells that lie beside another part, or at a side of the grid, in order of rows: whatever parts are
    joined, passes lie over these alone.
    """
    rows, cols = labels.shape
    start = np.zeros(rows + 1, np.int64)
    for r in numba.prange(rows):
        found = np.empty(cols, np.bool_)
        borders_of_row(labels, part, r, found)
        start[r + 1] = found.sum()
    for r in range(rows):
        start[r + 1] += start[r]
    cells = np.empty(start[rows], np.int32)
    for r in numba.prange(rows):  # looked at again, as marks of all cells would take much memory
        found = np.empty(cols, np.bool_)
        borders_of_row(labels, part, r, found)
        n = start[r]
        for c in range(cols):
            if found[c]:
                cells[n] = r * cols + c
                n += 1
    return cells


@numba.njit(cache=True, nogil=True)
def lowest_around(z, labels, part, r, c):
    """The lowest neighbour of an inner cell in another part, and whether there is any such: NaN where one
    of them is no ground.
    """
    own, low, every, any_ = part[labels[r, c]], np.float32(np.inf), np.float32(0.0), False
    for k in range(8):  # without branches: which neighbours lie in another part cannot be guessed
        v, other = z[r + DR[k], c + DC[k]], part[labels[r + DR[k], c + DC[k]]] != own
        low = min(low, v if other else np.float32(np.inf))
        every += v
        any_ |= other
    return low if every == every else every, any_


@numba.njit(cache=True, nogil=True, parallel=True)
def lowest_over(z, labels, part, cells, passes, open_at):
    """Lowest pass out of each part of the tree over some cells, by strips, as ``lowest_passes`` finds them.
    Cells that lie beside no other part any more are set to -1 and left out from then on.
    """
    (rows, cols), (best, where) = z.shape, passes
    strips = len(best)
    for s in numba.prange(strips):
        low, at = best[s], where[s]
        low[:] = np.inf
        for n in range(s * cells.size // strips, (s + 1) * cells.size // strips):
            if cells[n] < 0:
                continue
            r, c = cells[n] // cols, cells[n] % cols
            own = part[labels[r, c]]
            if own == 0:
                cells[n] = -1
                continue
            if 0 < r < rows - 1 and 0 < c < cols - 1:
                height, other = lowest_around(z, labels, part, r, c)
                if not other:
                    cells[n] = -1
                if not other or max(z[r, c], height) > low[own]:
                    continue
            height, code = pass_at(z, labels, part, open_at, np.int64(cells[n]))
            if height < low[own] or (height == low[own] and height < np.inf and code < at[own]):
                low[own], at[own] = height, code


@numba.njit(inline="always", cache=True)
def root_cells(parent, k):
    while parent[k] != k:
        parent[k] = parent[parent[k]]
        k = parent[k]
    return k


@numba.njit(cache=True, nogil=True)
def join_parts(labels, part, passes, tree, gained):
    """Join each part over its lowest pass, and number the parts anew; gives their number, and how many passes
    the tree has.
    """
    (height, one, other, at, way), (best, where) = tree, passes
    n, cols = part.size, labels.shape[1]
    parent = np.arange(best.shape[1])
    for p in range(1, best.shape[1]):
        s = 0
        for t in range(1, best.shape[0]):
            if best[t, p] < best[s, p] or (
                best[t, p] == best[s, p] and best[t, p] < np.inf and where[t, p] < where[s, p]
            ):
                s = t
        if best[s, p] == np.inf:
            continue
        code = where[s, p]
        cell, k = code // 9, code % 9
        r, c = cell // cols, cell % cols
        a = labels[r, c]
        b = 0 if k == 8 else labels[r + DR[k], c + DC[k]]
        pa, pb = root_cells(parent, part[a]), root_cells(parent, part[b])
        if pa == pb:
            continue
        parent[max(pa, pb)] = min(pa, pb)
        height[gained], one[gained], other[gained], at[gained], way[gained] = best[s, p], a, b, cell, k
        gained += 1
    number, fresh = np.zeros(best.shape[1], np.int32), 1
    for p in range(1, best.shape[1]):
        if parent[p] == p:
            number[p] = fresh
            fresh += 1
    for k in range(n):
        part[k] = number[root_cells(parent, part[k])]
    return fresh, gained


@numba.njit(cache=True, nogil=True)
def links_of(nodes, tree):
    """Passes at each node of a tree, one after another, and where those of each begin."""
    one, other = tree.one, tree.other
    start = np.zeros(nodes + 1, np.int32)
    for e in range(one.size):
        start[one[e] + 1] += 1
        start[other[e] + 1] += 1
    for k in range(nodes):
        start[k + 1] += start[k]
    fill, links = start[:-1].copy(), np.empty(2 * one.size, np.int32)
    for e in range(one.size):
        for k in (one[e], other[e]):
            links[fill[k]] = e
            fill[k] += 1
    return start, links


@numba.njit(cache=True, nogil=True)
def levels(nodes, tree):
    """Water level of each node: the highest pass between it and the outside along the tree."""
    height, one, other = tree.height, tree.one, tree.other
    start, links = links_of(nodes, tree)
    level = np.full(nodes, np.float32(np.inf))
    level[0] = -np.inf
    stack, top = np.empty(nodes, np.int32), 1
    stack[0] = 0
    while top > 0:
        top -= 1
        node = stack[top]
        for m in range(start[node], start[node + 1]):
            e = links[m]
            next_ = other[e] if one[e] == node else one[e]
            if level[next_] == np.inf:
                level[next_] = max(level[node], height[e])
                stack[top] = next_
                top += 1
    return level


@numba.njit(cache=True, nogil=True)
def deaths(bottom, leaves, tree):
    """Raise the water over passes in ascending order: the pool with the higher bottom spills into the other
    one's basin.

    Gives the pass that each node spills over (-1: none, as at an outlet), and the node on its far side.
    """
    nodes, height, one, other = bottom.size, tree.height, tree.one, tree.other
    parent, deepest = np.arange(nodes, dtype=np.int32), np.arange(nodes, dtype=np.int32)
    spill, far = np.full(nodes, -1, np.int32), np.zeros(nodes, np.int32)
    for node in range(1, nodes):
        if leaves[node]:
            parent[node] = 0
    for e in range(height.size):
        a, b = root_cells(parent, one[e]), root_cells(parent, other[e])
        if a == b:
            continue
        first_dies = deepest[a] != 0 and (deepest[b] == 0 or bottom[deepest[a]] > bottom[deepest[b]])
        gone, kept = (a, b) if first_dies else (b, a)
        node = deepest[gone]
        spill[node], far[node] = e, other[e] if first_dies else one[e]
        parent[gone] = kept
    return spill, far


@numba.njit(cache=True, nogil=True, parallel=True)
def spills(ground, metres, pits, tree):
    """Depth of each pool when it spills, the node it spills to, and the cell that it spills at."""
    (cell, bottom, leaves, spill, across), z = pits, ground.z
    height, at, way = tree.height, tree.at, tree.way
    nodes, cols = bottom.size, z.shape[1]
    depth, over = np.zeros(nodes, np.float32), np.full(nodes, -1, np.int32)
    for node in numba.prange(1, nodes):
        e = spill[node]
        if e < 0:
            over[node] = cell[node] if leaves[node] else -1
            continue
        r, c = at[e] // cols, at[e] % cols
        if way[e] < 8 and z[r, c] < height[e]:
            r, c = r + DR[way[e]], c + DC[way[e]]
        depth[node] = height[e] - bottom[node]
        over[node], across[node] = r * cols + c, runs_on(ground, metres, r, c, across[node])
    return depth, across, over


@numba.njit(cache=True, nogil=True)
def runs_on(ground, metres, r, c, far):
    """The basin that water runs to from the top of a pass: as the ground lies, or down the steepest side of
    the filled one.
    """
    z, labels, level = ground
    rows, cols = z.shape
    if z[r, c] > level[labels[r, c]]:
        return labels[r, c]
    best, found = np.float32(0.0), far
    for k in range(8):
        i, j = r + DR[k], c + DC[k]
        if 0 <= i < rows and 0 <= j < cols and labels[i, j] > 0:
            drop = (z[r, c] - max(z[i, j], level[labels[i, j]])) / span(metres, r, k)
            if drop > best:
                best, found = drop, labels[i, j]
    return found


@numba.njit(cache=True, nogil=True)
def roots(across, depth, least_depth):
    root = np.full(across.size, -1, np.int32)
    root[0] = 0
    for first in range(1, across.size):
        node = end = first
        while root[end] < 0 and across[end] != 0 and depth[end] < least_depth:
            end = across[end]
        final = root[end] if root[end] >= 0 else end
        while root[node] < 0:
            root[node] = final
            if node == end:
                break
            node = across[node]
    return root


@numba.njit(cache=True, nogil=True, parallel=True)
def fill_rows(ground, first, last, out):
    """Ground with every pool at its level."""
    for r in numba.prange(first, last):
        for c in range(out.shape[1]):
            out[r, c] = stands(ground, (r, c)) if ground.labels[r, c] > 0 else np.float32(np.nan)
