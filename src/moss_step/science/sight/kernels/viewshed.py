"""Kernels: what observers see: by each, by how many, by which, and how high a target must stand."""

from __future__ import annotations

import numba


@numba.njit(cache=True, nogil=True)
def number_cells(which, found, codes):
    """Number values in the order in which they are met; gives how many there are, and ends when ``found`` is
    full.
    """
    count, last = 0, 0
    for r in range(which.shape[0]):
        for c in range(which.shape[1]):
            v = which[r, c]
            if count == 0 or found[last] != v:  # most often it is the neighbour's
                last = 0
                while last < count and found[last] != v:
                    last += 1
                if last == count:
                    found[count] = v
                    count += 1
                    if count == found.size:
                        return count
            codes[r, c] = last
    return count
