"""Kernels: water on a ground in tiles: flats and passes that cross the rims of tiles, and what runs over
them.
"""

from __future__ import annotations

import numba
import numpy as np

from moss_step.science.water.kernels.descent import descent_at, water_along
from moss_step.science.water.kernels.flats import OUT as OUT_BITS
from moss_step.science.water.kernels.neighbours import DC, DR, LOWEST, NONE, OUT, PIT
from moss_step.science.water.kernels.pools import links_of, root_cells

WET, OPEN = np.uint8(10), np.uint8(11)
"""Ways that are not known yet: of cells under water, and of level cells whose flat crosses the rim."""
HALF, LOWER = np.int64(32), np.int64((1 << 32) - 1)
"""Bits of each of two counts in one number, and those of the lower one."""


@numba.njit(cache=True, nogil=True)
def mark_open(z, ways):
    """Mark the level cells within a rim of one cell whose flat has cells on that rim; gives their number."""
    rows, cols = ways.shape
    stack, count = np.empty(1024, np.int64), 0
    for n in range(2 * (rows + cols)):
        if n < cols:
            r, c = 0, n
        elif n < 2 * cols:
            r, c = rows - 1, n - cols
        elif n < 2 * cols + rows:
            r, c = n - 2 * cols, 0
        else:
            r, c = n - 2 * cols - rows, cols - 1
        if ways[r, c] != PIT:
            continue
        for k in range(8):
            i, j = r + DR[k], c + DC[k]
            if 0 < i < rows - 1 and 0 < j < cols - 1 and ways[i, j] == PIT and z[i, j] == z[r, c]:
                stack, marked = mark_flat(z, ways, i, j, stack)
                count += marked
    return count


@numba.njit(cache=True, nogil=True)
def mark_flat(z, ways, r, c, stack):
    """Mark the flat of a cell, run by run along the rows; gives the stack, which may have grown, and the
    number of its cells.
    """
    rows, cols = ways.shape
    height, count, top = z[r, c], 0, 1
    stack[0] = r * cols + c
    while top > 0:
        top -= 1
        i, first = stack[top] // cols, stack[top] % cols
        if ways[i, first] != PIT:
            continue
        last = first
        while first > 1 and ways[i, first - 1] == PIT and z[i, first - 1] == height:
            first -= 1
        while last < cols - 2 and ways[i, last + 1] == PIT and z[i, last + 1] == height:
            last += 1
        ways[i, first : last + 1] = OPEN
        count += last + 1 - first
        if top + 2 * (last + 3 - first) > stack.size:
            stack = np.append(stack, np.empty(stack.size + 2 * cols, np.int64))
        for a in (i - 1, i + 1):
            if not 0 < a < rows - 1:
                continue
            before = False
            for b in range(max(first - 1, 1), min(last + 1, cols - 2) + 1):
                level = ways[a, b] == PIT and z[a, b] == height
                if level and not before:
                    stack[top] = a * cols + b
                    top += 1
                before = level
    return stack, count


@numba.njit(cache=True, nogil=True)
def list_open(z, ways, count):
    """The open cells in order of rows, and what lies beside each, as ``flats`` packs it."""
    rows, cols = ways.shape
    cells, beside, n = np.empty(count, np.int32), np.empty(count, np.int16), 0
    for r in range(1, rows - 1):
        for c in range(1, cols - 1):
            if ways[r, c] != OPEN:
                continue
            same, ways_out, higher = 0, 0, False
            for k in range(8):
                v, way = z[r + DR[k], c + DC[k]], ways[r + DR[k], c + DC[k]]
                same |= ((v == z[r, c]) & ((way == PIT) | (way == OPEN))) << k
                ways_out |= ((v == z[r, c]) & (way < PIT)) << k
                higher |= v > z[r, c]
            out = LOWEST[ways_out & 0x55 if ways_out & 0x55 else ways_out]
            cells[n], beside[n] = r * cols + c, same | higher << 8 | (ways_out > 0) << 9 | out << OUT_BITS
            n += 1
    return cells, beside


@numba.njit(cache=True, nogil=True)
def number_open(cells, place):
    """Number the open cells of a window in ``place`` from 1, the cells on its rim from -1 down, in the order
    of ``ring``; all others are 0.
    """
    rows, cols = place.shape
    place[:] = 0
    for n in range(cols):
        place[0, n], place[rows - 1, n] = -1 - n, -1 - cols - (rows - 2) - n
    for n in range(rows - 2):
        place[n + 1, cols - 1], place[n + 1, 0] = -1 - cols - n, -1 - 2 * cols - (rows - 2) - n
    flat = place.reshape(-1)
    for n in range(cells.size):
        flat[cells[n]] = n + 1


@numba.njit(cache=True, nogil=True)
def steps_at_rim(cells, beside, places, flag, rim):
    """Open cells that a flag or the rim gives a number of steps, in order of these, and the numbers.

    ``places`` are steps to neighbours, and the grid that ``number_open`` gives; ``rim`` holds the steps that
    are known there (0: none). A flag of 0 counts for nothing.
    """
    (steps, flat), flagged = places, 0
    wide = steps[2]
    high = flat.size // wide
    most = cells.size if flag else min(cells.size, 2 * (high + wide))
    found, far = np.empty(most, np.int32), np.empty(most, np.int32)
    if flag:
        for n in range(cells.size):
            if beside[n] & flag:
                found[flagged], far[flagged] = n, 1
                flagged += 1
    count = flagged
    for r in range(1, high - 1):
        along = 1 if r in (1, high - 2) or wide < 5 else wide - 3
        for c in range(1, wide - 1, along):
            n = flat[r * wide + c] - 1
            if n < 0 or beside[n] & flag:
                continue  # nothing is nearer than a flag
            best = nearest_on_rim(cells[n], beside[n] & 255, places, rim)
            if best > 0:
                found[count], far[count] = n, best
                count += 1
    order = np.argsort(far[flagged:count], kind="mergesort")
    found[flagged:count], far[flagged:count] = found[flagged:count][order], far[flagged:count][order]
    return found[:count], far[:count]


@numba.njit(cache=True, nogil=True)
def nearest_on_rim(cell, bits, places, rim):
    """Steps to a cell over its neighbours on the rim; 0 where none is known."""
    (steps, flat), best = places, 0
    while bits:
        at = flat[cell + steps[LOWEST[bits]]]
        bits &= bits - 1
        if at < 0 and rim[-at - 1] > 0 and (best == 0 or rim[-at - 1] + 1 < best):
            best = rim[-at - 1] + 1
    return best


@numba.njit(cache=True, nogil=True)
def spread_open(cells, beside, places, sources, far):
    """Lower the steps to open cells (0: not known) to what follows from some sources: open cells and their
    numbers, in order of these. Gives the number of cells whose steps have changed.
    """
    (steps, flat), (found, first) = places, sources
    # Sources come in order of their steps: each cell is given its steps once, and waits once.
    queue, head, tail, next_, changed = np.empty(cells.size, np.int32), 0, 0, 0, 0
    while head < tail or next_ < found.size:
        if next_ < found.size and (head == tail or first[next_] <= far[queue[head]]):
            n = found[next_]
            next_ += 1
            if far[n] != 0 and far[n] <= first[next_ - 1]:
                continue
            far[n] = first[next_ - 1]
            changed += 1
        else:
            n = queue[head]
            head += 1
        bits, step = beside[n] & 255, far[n] + 1
        while bits:
            m = flat[cells[n] + steps[LOWEST[bits]]] - 1
            bits &= bits - 1
            if m >= 0 and (far[m] == 0 or far[m] > step):
                far[m] = step
                queue[tail] = m
                tail += 1
    return changed + tail


@numba.njit(cache=True, nogil=True)
def drain_open(ways, cells, beside, places, fields, rims):
    """Give open cells their ways: out, or down the two fields of steps, from lower and from higher ground;
    those of flats without lower ground have none.
    """
    (steps, place), (toward, away), (rim_toward, rim_away) = places, fields, rims
    for n in range(cells.size):
        here = cells[n]
        if toward[n] == 0:
            ways[here] = PIT
            continue
        if toward[n] == 1:
            ways[here] = beside[n] >> OUT_BITS
            continue
        best, way = 2 * toward[n] - away[n], PIT
        for some in (0x55, 0xAA):  # straight neighbours first
            bits = beside[n] & some
            while bits:
                k = LOWEST[bits]
                bits &= bits - 1
                m = place[here + steps[k]]
                step = 2 * toward[m - 1] - away[m - 1] if m > 0 else 2 * rim_toward[-m - 1] - rim_away[-m - 1]
                if step < best:
                    best, way = step, np.uint8(k)
        ways[here] = way


@numba.njit(cache=True, nogil=True)
def end_at_rim(ways):
    """Have what leaves the tile end in it; gives cells and ways of these."""
    rows, cols = ways.shape
    cells, left = np.empty(2 * (rows + cols), np.int64), np.empty(2 * (rows + cols), np.uint8)
    n = 0
    for r in range(rows):
        inner = 0 < r < rows - 1
        for c in range(0, cols, max(cols - 1, 1) if inner else 1):
            k = ways[r, c]
            if k < OUT and not (0 <= r + DR[k] < rows and 0 <= c + DC[k] < cols):
                cells[n], left[n] = r * cols + c, k
                ways[r, c] = OUT
                n += 1
    return cells[:n], left[:n]


@numba.njit(cache=True, nogil=True)
def passes_between(terminal, tree):
    """Lowest passes between the terminal nodes of a tree whose passes are in ascending order."""
    height, one, other, _, _ = tree
    parent = np.arange(terminal.size, dtype=np.int32)
    named = np.where(terminal, parent, np.int32(-1)).astype(np.int32)
    a, b, h, n = np.empty_like(one), np.empty_like(one), np.empty_like(height), 0
    for e in range(height.size):
        p, q = root_cells(parent, one[e]), root_cells(parent, other[e])
        if p == q:
            continue
        if named[p] >= 0 and named[q] >= 0:
            a[n], b[n], h[n] = named[p], named[q], height[e]
            n += 1
        kept, gone = min(p, q), max(p, q)
        parent[gone] = kept
        named[kept] = named[kept] if named[kept] >= 0 else named[gone]
    return a[:n], b[:n], h[:n]


@numba.njit(cache=True, nogil=True)
def lowest_tree(nodes, one, other, height, order):
    """The passes of a spanning tree among many, taken in ascending order: which they are."""
    parent, taken, n = np.arange(nodes), np.empty(min(nodes, order.size), np.int64), 0
    for e in order:
        p, q = root_cells(parent, one[e]), root_cells(parent, other[e])
        if p != q:
            parent[max(p, q)] = min(p, q)
            taken[n] = e
            n += 1
    return taken[:n]


@numba.njit(cache=True, nogil=True)
def spread_levels(level, tree):
    """Levels of all nodes of a tile, in place, from those that are known: the lowest, over all of them, of
    the highest pass on the way. Infinite where none is known.
    """
    height, one, other, _, _ = tree
    nodes = level.size
    start, links = links_of(nodes, tree)
    order, over, seen, n = (
        np.empty(nodes, np.int32),
        np.full(nodes, -1, np.int32),
        np.zeros(nodes, np.bool_),
        0,
    )
    for root in range(nodes):
        if seen[root]:
            continue
        order[n], seen[root] = root, True
        head = n
        n += 1
        while head < n:
            node = order[head]
            head += 1
            for m in range(start[node], start[node + 1]):
                e = links[m]
                next_ = other[e] if one[e] == node else one[e]
                if not seen[next_]:
                    seen[next_] = True
                    over[next_] = e
                    order[n] = next_
                    n += 1
    for up in range(nodes - 1, -1, -1):
        node = order[up]
        e = over[node]
        if e >= 0:
            above = other[e] if one[e] == node else one[e]
            level[above] = min(level[above], max(level[node], height[e]))
    for node in order:
        e = over[node]
        if e >= 0:
            above = other[e] if one[e] == node else one[e]
            level[node] = min(level[node], max(level[above], height[e]))


@numba.njit(cache=True, nogil=True, parallel=True)
def under_water(z, labels, level, ways, filled):
    """Fill a tile to its levels, and mark the ways of what lies under water."""
    rows, cols = z.shape
    for r in numba.prange(rows):
        for c in range(cols):
            water = level[labels[r, c]]
            if labels[r, c] == 0:
                filled[r, c] = np.nan
            elif z[r, c] > water:
                filled[r, c] = z[r, c]
            else:
                filled[r, c] = water
                ways[r, c] = WET


@numba.njit(cache=True, nogil=True, parallel=True)
def descend_wet(filled, metres, ways):
    """Ways of cells under water; at the sides of a window they hold where these are sides of the ground."""
    rows, cols = ways.shape
    for r in numba.prange(rows):
        wet = False
        for c in range(cols):
            wet |= ways[r, c] == WET
        if not wet:
            continue
        inner = 0 < r < rows - 1 and cols > 2
        way, edge = np.empty(cols, np.uint8), np.empty(cols, np.bool_)
        if inner:
            water_along(filled[r - 1], filled[r], filled[r + 1], metres[r], way, edge)
        for c in range(cols):
            if ways[r, c] == WET:
                plain = inner and 0 < c < cols - 1 and not (way[c] == PIT and edge[c])
                ways[r, c] = way[c] if plain else descent_at(filled, metres, r, c)


@numba.njit(cache=True, nogil=True)
def follow_rim(ways, rim, number):
    """Of each cell on the rim the one that its water leaves the tile at (-1: it ends within).

    ``rim`` lists the cells, ``number`` their places in the list, by flat index; cells on the rim that water
    leaves at have a way beyond it.
    """
    rows, cols = ways.shape
    end = np.full(rim.size, -2, np.int32)
    path = np.empty(rim.size, np.int32)
    for n in range(rim.size):
        here, count, found = rim[n], 0, -1
        while True:
            r, c = here // cols, here % cols
            if r == 0 or c == 0 or r == rows - 1 or c == cols - 1:
                m = number[here]
                if end[m] > -2:
                    found = end[m]
                    break
                path[count] = m
                count += 1
            k = ways[r, c]
            if k >= OUT:
                break
            i, j = r + DR[k], c + DC[k]
            if not (0 <= i < rows and 0 <= j < cols):
                found = number[here]
                break
            here = i * cols + j
        for m in range(count):
            end[path[m]] = found
    return end


@numba.njit(cache=True, nogil=True)
def pass_on(flow, target, link, inflow):
    """Hand what leaves each tile on to the next, until it leaves the ground.

    ``flow`` (fields, nodes) is what leaves at each cell of a rim of what falls in its tile; ``target`` the
    cell that it goes on to (-1: none), ``link`` the cell that water entering at a cell leaves its tile at.
    ``inflow`` gains what enters at each cell.
    """
    nodes = target.size
    givers, pending = np.zeros(nodes, np.int32), np.zeros(nodes, np.int32)
    for x in range(nodes):
        if target[x] >= 0:
            givers[target[x]] += 1
    for n in range(nodes):
        if givers[n] > 0 and link[n] >= 0:
            pending[link[n]] += 1
    stack, top = np.empty(nodes, np.int64), 0
    for x in range(nodes):
        if target[x] >= 0 and pending[x] == 0:
            stack[top] = x
            top += 1
    while top > 0:
        top -= 1
        x = stack[top]
        n = target[x]
        for f in range(flow.shape[0]):
            inflow[f, n] += flow[f, x]
        givers[n] -= 1
        y = link[n]
        if givers[n] == 0 and y >= 0:
            for f in range(flow.shape[0]):
                flow[f, y] += inflow[f, n]
            pending[y] -= 1
            if pending[y] == 0 and target[y] >= 0:
                stack[top] = y
                top += 1


@numba.njit(inline="always", cache=True)
def at_edge(known, r, c):
    """Whether a cell of the ground has a neighbour that is none; ``known`` has one more cell on each side."""
    edge = False
    for k in range(8):
        edge |= known[r + 1 + DR[k], c + 1 + DC[k]] == NONE
    return edge and known[r + 1, c + 1] != NONE


@numba.njit(cache=True, nogil=True, parallel=True)
def edge_of(known, out):
    """1 for cells of a ground that have a neighbour that is none, in a window with one more cell on each
    side; 0 elsewhere.
    """
    rows, cols = out.shape
    for r in numba.prange(rows):
        for c in range(cols):
            out[r, c] = 1.0 if at_edge(known, r, c) else 0.0


@numba.njit(cache=True, nogil=True, parallel=True)
def begin_counts(known, out):
    """1 for each cell of a ground, and 1 above the lower half of the bits where it has a neighbour that is
    none; ``known`` has one more cell on each side.
    """
    rows, cols = out.shape
    for r in numba.prange(rows):
        for c in range(cols):
            out[r, c] = np.int64(known[r + 1, c + 1] != NONE) | np.int64(at_edge(known, r, c)) << HALF


@numba.njit(cache=True, nogil=True, parallel=True)
def shorten_counts(total, out):
    """Such counts in half the room: the lower one, below 0 where the upper one is above 0."""
    rows, cols = out.shape
    for r in numba.prange(rows):
        for c in range(cols):
            cells = np.int32(total[r, c] & LOWER)
            out[r, c] = -cells if total[r, c] >> HALF > 0 else cells


@numba.njit(cache=True, nogil=True, parallel=True)
def add_cells(counts, scale, field):
    """Add short counts times a scale to a field."""
    rows, cols = counts.shape
    for r in numba.prange(rows):
        for c in range(cols):
            field[r, c] += scale * abs(counts[r, c])


@numba.njit(cache=True, nogil=True, parallel=True)
def add_edges(counts, field):
    """Add 1 to a field where short counts are below 0."""
    rows, cols = counts.shape
    for r in numba.prange(rows):
        for c in range(cols):
            field[r, c] += counts[r, c] < 0


@numba.njit(cache=True, nogil=True)
def run_through(ways, cells, entering, through):
    """What enters a tile at some cells, at each cell that it runs through: ``through`` holds zeros.

    Paths are marked first, with how many of them meet at each cell; then each is followed until it waits for
    another one.
    """
    rows, cols = ways.shape
    flat, waits = through.reshape(-1), np.zeros(ways.size, np.uint8)
    for n in range(cells.size):
        if entering[n] == 0:
            continue
        here = cells[n]
        flat[here] += entering[n]
        if waits[here] > 0:
            continue
        waits[here] = 1
        here = next_within(ways, here, rows, cols)
        while here >= 0 and waits[here] == 0:
            waits[here] = 2
            here = next_within(ways, here, rows, cols)
        if here >= 0:
            waits[here] += 1
    for n in range(cells.size):
        here = cells[n]
        while here >= 0 and waits[here] == 1:
            waits[here] = 0
            below = next_within(ways, here, rows, cols)
            if below >= 0:
                flat[below] += flat[here]
                waits[below] -= 1
            here = below


@numba.njit(inline="always", cache=True)
def next_within(ways, here, rows, cols):
    """The cell that water goes on to; -1 where it ends, or leaves the grid."""
    r, c = here // cols, here % cols
    k = ways[r, c]
    if k >= OUT:
        return -1
    i, j = r + DR[k], c + DC[k]
    return i * cols + j if 0 <= i < rows and 0 <= j < cols else -1


@numba.njit(cache=True, nogil=True)
def told_amounts(known, amounts, edge, blank, out):
    """Amounts in single precision, none where there is no ground or, if they are to be left ``blank``, where
    water comes from the edge; gives the cells of the ground, and those that such water reaches.
    """
    rows, cols = out.shape
    held, fed = 0, 0
    for r in range(rows):
        for c in range(cols):
            ground = known[r + 1, c + 1] != NONE
            reached = ground and edge[r, c] > 0
            held += ground
            fed += reached
            gone = not ground or (blank and reached)
            out[r, c] = np.float32(np.nan) if gone else np.float32(amounts[r, c])
    return held, fed


@numba.njit(cache=True, nogil=True)
def follow_on(target, metres):
    """The node that each leads to at last over ``target`` (-1: nowhere further); adds up the metres on the
    way there, in place.
    """
    nodes = target.size
    last, path = np.full(nodes, -1, np.int64), np.empty(nodes, np.int64)
    for n in range(nodes):
        here, count = n, 0
        while last[here] < 0 and target[here] >= 0:
            path[count] = here
            count += 1
            here = target[here]
        if last[here] < 0:
            last[here] = here
        for m in range(count - 1, -1, -1):
            metres[path[m]] += metres[here]
            last[path[m]] = last[here]
            here = path[m]
    return last
