"""Kernels: shares of classes from what was learned."""

from __future__ import annotations

import numba
import numpy as np

PART = 4096


@numba.njit(parallel=True, nogil=True, cache=True)
def vote(values, measure, bound, below, above, share, roots, out):
    """Mean of the shares of the leaves that points (n, measures) come to: ``out`` (n, classes)."""
    trees, classes = roots.size, share.shape[1]
    for part in numba.prange(-(-values.shape[0] // PART)):
        first, last = part * PART, min((part + 1) * PART, values.shape[0])
        out[first:last] = 0.0
        for tree in range(trees):  # the nodes of one tree stay in the cache
            for i in range(first, last):
                node = roots[tree]
                while measure[node] >= 0:
                    node = below[node] if values[i, measure[node]] <= bound[node] else above[node]
                for c in range(classes):
                    out[i, c] += share[node, c]
        for i in range(first, last):
            for c in range(classes):
                out[i, c] /= trees


@numba.njit(parallel=True, nogil=True, cache=True)
def weigh(values, mean, inverse, constant, out):
    """Shares of classes by their normal distributions, all equally frequent: ``out`` (n, classes)."""
    classes, wide = mean.shape
    for part in numba.prange(-(-values.shape[0] // PART)):
        off, log = np.empty(wide), np.empty(classes)
        for i in range(part * PART, min((part + 1) * PART, values.shape[0])):
            for c in range(classes):
                for a in range(wide):
                    off[a] = values[i, a] - mean[c, a]
                total = 0.0
                for a in range(wide):
                    line = 0.0
                    for b in range(wide):
                        line += inverse[c, a, b] * off[b]
                    total += off[a] * line
                log[c] = constant[c] - 0.5 * total
            most = log.max()
            total = 0.0
            for c in range(classes):
                out[i, c] = np.exp(log[c] - most)
                total += out[i, c]
            for c in range(classes):
                out[i, c] /= total
