"""Kernels: following water: the path down from a cell, the longest path up, and all that drains to cells."""

from __future__ import annotations

import numba
import numpy as np

from moss_step.science.water.kernels.neighbours import DC, DR, LOWEST, NONE, OUT, span


@numba.njit(cache=True, nogil=True)
def path_down(ways, start):
    """Cells from one to where its water leaves the ground, that cell included (int64)."""
    cols = ways.shape[1]
    cells, count = np.empty(1024, np.int64), 1
    cells[0] = start
    r, c = start // cols, start % cols
    while ways[r, c] < OUT:
        k = ways[r, c]
        r, c = r + DR[k], c + DC[k]
        if count == cells.size:
            cells = np.append(cells, np.empty(cells.size, np.int64))
        cells[count] = r * cols + c
        count += 1
    return cells[:count]


@numba.njit(inline="always", cache=True)
def donors_cells(ways, r, c):
    """One bit for each neighbour that runs to a cell; without branches, which would be guessed wrong, where
    all eight exist.
    """
    rows, cols = ways.shape
    if 0 < r < rows - 1 and 0 < c < cols - 1:
        east = (ways[r, c + 1] == 4) | (ways[r + 1, c + 1] == 5) << 1
        south = (ways[r + 1, c] == 6) << 2 | (ways[r + 1, c - 1] == 7) << 3
        west = (ways[r, c - 1] == 0) << 4 | (ways[r - 1, c - 1] == 1) << 5
        return east | south | west | (ways[r - 1, c] == 2) << 6 | (ways[r - 1, c + 1] == 3) << 7
    bits = 0
    for k in range(8):
        i, j = r + DR[k], c + DC[k]
        if 0 <= i < rows and 0 <= j < cols:
            bits |= (ways[i, j] == k ^ 4) << k
    return bits


@numba.njit(cache=True, nogil=True)
def mark_upstream(ways, seeds, number, marks):
    """Mark seeds and all cells that run to them with a number, where ``marks`` is 0; gives how many and their
    bounds.
    """
    rows, cols = ways.shape
    stack, top, count = np.empty(max(4096, seeds.size), np.int64), 0, 0
    r0, r1, c0, c1 = rows, -1, cols, -1
    for seed in seeds:
        r, c = seed // cols, seed % cols
        if marks[r, c] == 0:
            marks[r, c] = number
            stack[top] = r << 32 | c
            top += 1
    while top > 0:
        top -= 1
        r, c = stack[top] >> 32, stack[top] & 0xFFFFFFFF
        if top + 8 >= stack.size:
            stack = np.append(stack, np.empty(stack.size, np.int64))
        while True:
            count += 1
            r0, r1, c0, c1 = min(r0, r), max(r1, r), min(c0, c), max(c1, c)
            bits, up = donors_cells(ways, r, c), -1
            while bits:
                k = LOWEST[bits]
                bits &= bits - 1
                i, j = r + DR[k], c + DC[k]
                if marks[i, j] != 0:
                    continue
                marks[i, j] = number
                if up < 0:
                    up = k  # one goes on at once, the others wait
                else:
                    stack[top] = i << 32 | j
                    top += 1
            if up < 0:
                break
            r, c = r + DR[up], c + DC[up]
    return count, r0, r1, c0, c1


@numba.njit(cache=True, nogil=True)
def branches(ways, cells, seed, number, marks, most):
    """Mark a stem upward from a cell until no branch has more than ``most`` cells; gives the branches, and
    what is marked.
    """
    cols = ways.shape[1]
    found, sizes, count = np.empty(1024, np.int64), np.empty(1024, np.int64), 1
    found[0], sizes[0] = seed, cells[seed // cols, seed % cols]
    stem, r0, r1, c0, c1 = 0, ways.shape[0], -1, cols, -1
    at = 0
    while count > 0 and sizes[at] > most:
        r, c = found[at] // cols, found[at] % cols
        count -= 1
        found[at], sizes[at] = found[count], sizes[count]
        if marks[r, c] != 0:
            at = int(np.argmax(sizes[:count])) if count else 0
            continue
        marks[r, c] = number
        stem += 1
        r0, r1, c0, c1 = min(r0, r), max(r1, r), min(c0, c), max(c1, c)
        if count + 8 > found.size:
            found, sizes = (
                np.append(found, np.empty(found.size, np.int64)),
                np.append(sizes, np.empty(found.size, np.int64)),
            )
        first, bits = count, donors_cells(ways, r, c)
        while bits:
            k = LOWEST[bits]
            bits &= bits - 1
            i, j = r + DR[k], c + DC[k]
            found[count], sizes[count] = i * cols + j, cells[i, j]
            count += 1
        if count > first:  # most often the stem goes on in the largest of those just found
            at = first + int(np.argmax(sizes[first:count]))
        if count == first or sizes[at] <= most:
            at = int(np.argmax(sizes[:count])) if count else 0
    return found[:count], sizes[:count], (stem, r0, r1, c0, c1)


@numba.njit(cache=True, nogil=True, parallel=True)
def mark_shares(ways, seeds, starts, number, marks):
    """Mark what runs to each share of some cells at once: what runs to one branch runs to no other."""
    found = np.empty((starts.size - 1, 5), np.int64)
    for t in numba.prange(starts.size - 1):
        count, r0, r1, c0, c1 = mark_upstream(ways, seeds[starts[t] : starts[t + 1]], number, marks)
        found[t, 0], found[t, 1], found[t, 2], found[t, 3], found[t, 4] = count, r0, r1, c0, c1
    return found


@numba.njit(cache=True, nogil=True)
def down_order_cells(ways, donors, pulse):
    """Cells in an order in which every cell comes before its receiver; uses ``donors`` up."""
    rows, cols = ways.shape
    order, count = np.empty(ways.size, np.int32), 0
    for r in range(rows):
        pulse[0] = r
        if pulse[1]:
            break
        for c in range(cols):
            if donors[r, c] != 0 or ways[r, c] == NONE:
                continue
            i, j = r, c
            while True:
                donors[i, j] = 255
                order[count] = i * cols + j
                count += 1
                k = ways[i, j]
                if k >= OUT:
                    break
                i, j = i + DR[k], j + DC[k]
                donors[i, j] -= 1
                if donors[i, j] > 0:
                    break
    return order[:count]


@numba.njit(cache=True, nogil=True)
def order_within(ways, seeds, marks, number, count):
    """The ``count`` cells of a number, which all run to some seeds, each before the one it runs to
    (int32).
    """
    cols = ways.shape[1]
    order, at = np.empty(count, np.int32), count
    for seed in seeds:
        r, c = seed // cols, seed % cols
        k = ways[r, c]
        if k >= OUT or marks[r + DR[k], c + DC[k]] != number:  # its water leaves the marked cells here
            at -= 1
            order[at] = seed
    here = count
    while here > at:
        here -= 1
        r, c = order[here] // cols, order[here] % cols
        bits = donors_cells(ways, r, c)
        while bits:
            k = LOWEST[bits]
            bits &= bits - 1
            if marks[r + DR[k], c + DC[k]] == number:
                at -= 1
                order[at] = (r + DR[k]) * cols + c + DC[k]
    return order


@numba.njit(cache=True, nogil=True)
def lengths_down(course, inside, out, pulse):
    """Metres down to where water leaves the ground, or the numbered area of ``inside`` unless that is
    empty.
    """
    ways, metres, order = course
    cols = ways.shape[1]
    for n in range(order.size - 1, -1, -1):
        if n & 0xFFFF == 0:
            pulse[0] += 0x10000
            if pulse[1]:
                return
        r, c = order[n] // cols, order[n] % cols
        k = ways[r, c]
        if k < OUT and (inside.size == 0 or inside[r, c] == inside[r + DR[k], c + DC[k]]):
            here = r if DR[k] >= 0 else r + DR[k]
            out[r, c] = out[r + DR[k], c + DC[k]] + span(metres, here, k)


@numba.njit(cache=True, nogil=True)
def lengths_up(course, inside, out, pulse):
    """Metres of the longest way down to each cell, from within its own area unless ``inside`` is empty."""
    ways, metres, order = course
    cols = ways.shape[1]
    for n in range(order.size):
        if n & 0xFFFF == 0:
            pulse[0] += 0x10000
            if pulse[1]:
                return
        r, c = order[n] // cols, order[n] % cols
        k = ways[r, c]
        if k < OUT and (inside.size == 0 or inside[r, c] == inside[r + DR[k], c + DC[k]]):
            here = r if DR[k] >= 0 else r + DR[k]
            i, j = r + DR[k], c + DC[k]
            out[i, j] = max(out[i, j], out[r, c] + span(metres, here, k))


@numba.njit(cache=True, nogil=True)
def longest_up(ways, metres, start):
    """Cells of the longest way that reaches a cell, from its spring down to it."""
    rows, cols = ways.shape
    stack, along, back, top = np.empty(4096, np.int64), np.empty(4096), np.empty(4096, np.int64), 1
    stack[0], along[0], back[0] = start, 0.0, -1
    best, far, done = -1.0, start, 0
    # A list of all cells upstream, each with the length of its way and the place of its receiver in the list.
    while done < top:
        r, c = stack[done] // cols, stack[done] % cols
        if along[done] > best:
            best, far = along[done], done
        if top + 8 >= stack.size:
            stack, along, back = np.append(stack, stack), np.append(along, along), np.append(back, back)
        for k in range(8):
            i, j = r + DR[k], c + DC[k]
            if 0 <= i < rows and 0 <= j < cols and ways[i, j] == k ^ 4:
                stack[top], along[top], back[top] = (
                    i * cols + j,
                    along[done] + span(metres, min(i, r), k),
                    done,
                )
                top += 1
        done += 1
    cells, count, n = np.empty(top, np.int64), 0, far
    while n >= 0:
        cells[count] = stack[n]
        count += 1
        n = back[n]
    return cells[:count]


@numba.njit(cache=True, nogil=True)
def climb(ways, metres, begin, along, steps):
    """The longest ways to some cells within a window whose outermost ring belongs to other windows.

    ``begin`` are flat indices of these cells; ``along`` and ``steps`` say how far, and how many cells, it is
    from each to where the way ends. Gives of each the cell where the longest way to it begins, as
    ``longest_up`` finds it, with how far and how many cells that is; and the cells of the ring that drain to
    them, with how far and how many cells that is, and to which of ``begin``.
    """
    rows, cols = ways.shape
    n, top, left = begin.size, 1, 0
    far, length, deep = np.empty(n, np.int64), np.empty(n), np.empty(n, np.int64)
    stack, run, count = np.empty(4096, np.int64), np.empty(4096), np.empty(4096, np.int64)
    ring, ring_run, ring_count = np.empty(64, np.int64), np.empty(64), np.empty(64, np.int64)
    of = np.empty(64, np.int64)
    for b in range(n):
        stack[0], run[0], count[0], top, done, length[b] = begin[b], along[b], steps[b], 1, 0, -1.0
        while done < top:
            r, c = stack[done] // cols, stack[done] % cols
            if run[done] > length[b]:
                far[b], length[b], deep[b] = stack[done], run[done], count[done]
            if top + 8 >= stack.size:
                stack, run, count = np.append(stack, stack), np.append(run, run), np.append(count, count)
            for k in range(8):
                i, j = r + DR[k], c + DC[k]
                if ways[i, j] != k ^ 4:
                    continue
                there = run[done] + span(metres, min(i, r), k)
                if 0 < i < rows - 1 and 0 < j < cols - 1:
                    stack[top], run[top], count[top] = i * cols + j, there, count[done] + 1
                    top += 1
                    continue
                if left == ring.size:
                    ring, ring_run = np.append(ring, ring), np.append(ring_run, ring_run)
                    ring_count, of = np.append(ring_count, ring_count), np.append(of, of)
                ring[left], ring_run[left], ring_count[left], of[left] = (
                    i * cols + j,
                    there,
                    count[done] + 1,
                    b,
                )
                left += 1
            done += 1
    return (far, length, deep), (ring[:left], ring_run[:left], ring_count[:left], of[:left])
