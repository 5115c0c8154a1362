"""Kernels: values of cells that are the weighted mean of their four neighbours."""

import numba
import numpy as np


@numba.njit(cache=True, nogil=True)
def stretch_small(cells, starts, beside, most, cols, across, along, out):
    """Solve each void of at most ``most`` cells by elimination, which needs no other order of the cells: no
    weight outweighs the one of the cell itself.

    ``cells`` are flat indices, those of a void together and in ascending order, from ``starts`` on; what
    stands above, to the left, to the right and below each is ``beside`` it. ``across`` and ``along`` weigh
    neighbours by row.
    """
    for k in range(starts.size - 1):
        own = cells[starts[k] : starts[k + 1]]
        n = own.size
        if n > most:
            continue
        weights, known = np.zeros((n, n)), np.zeros(n)
        for i in range(n):
            row = own[i] // cols
            weights[i, i] = 2.0 * (across[row] + along[row])
            for side, step, weight in (
                (0, -cols, along[row]),
                (1, -1, across[row]),
                (2, 1, across[row]),
                (3, cols, along[row]),
            ):
                j = np.searchsorted(own, own[i] + step)
                if j < n and own[j] == own[i] + step:
                    weights[i, j] = -weight
                else:
                    known[i] += weight * beside[starts[k] + i, side]
        _eliminate(weights, known)
        out[starts[k] : starts[k + 1]] = known


@numba.njit(cache=True, nogil=True)
def _eliminate(weights, known):
    n = known.size
    for i in range(n):
        for r in range(i + 1, n):
            if weights[r, i] != 0.0:
                share = weights[r, i] / weights[i, i]
                for c in range(i + 1, n):
                    weights[r, c] -= share * weights[i, c]
                known[r] -= share * known[i]
    for i in range(n - 1, -1, -1):
        for c in range(i + 1, n):
            known[i] -= weights[i, c] * known[c]
        known[i] /= weights[i, i]
