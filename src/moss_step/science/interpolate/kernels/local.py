"""Kernels: kriging from the samples near each place."""

from __future__ import annotations

import numba
import numpy as np

from moss_step.science.interpolate.kernels.covariance import covariance

_INNER = 0.5
"""Part of the reach within which samples count in full."""
_LEAST = 1e-14


@numba.njit(cache=True, nogil=True)
def _solve(a, b):
    """Solve a square system in place by elimination with row pivots; False where it has no solution."""
    n = b.size
    most = 0.0
    for i in range(n):
        for j in range(n):
            most = max(most, abs(a[i, j]))
    for k in range(n):
        best, pivot = abs(a[k, k]), k
        for i in range(k + 1, n):
            if abs(a[i, k]) > best:
                best, pivot = abs(a[i, k]), i
        if not best > _LEAST * most:
            return False
        if pivot != k:
            for j in range(k, n):
                a[k, j], a[pivot, j] = a[pivot, j], a[k, j]
            b[k], b[pivot] = b[pivot], b[k]
        for i in range(k + 1, n):
            m = a[i, k] / a[k, k]
            if m != 0.0:
                for j in range(k + 1, n):
                    a[i, j] -= m * a[k, j]
                b[i] -= m * b[k]
    for k in range(n - 1, -1, -1):
        total = b[k]
        for j in range(k + 1, n):
            total -= a[k, j] * b[j]
        b[k] = total / a[k, k]
    return True


@numba.njit(cache=True)
def _loss(away, reach, sill):
    """Variance that a sample gains with its distance, so that its weight ends at the reach (Rivoirard &
    Romary 2011).
    """
    t = (away / reach - _INNER) / (1.0 - _INNER)
    if not t > 0.0:
        return 0.0
    t = min(t, 1.0 - 1e-4)
    return sill * (t / (1.0 - t)) ** 2


@numba.njit(cache=True, nogil=True, parallel=True)
def krige_near(model, nugget, filtered, samples, places, near, reach, out, spread):
    """Estimate and its standard deviation at each place from its ``near`` samples (n, k).

    ``model`` are shapes, sills and ranges of a variogram, ``samples`` their coordinates, values, drifts and
    shares of the nugget,
    ``places`` their coordinates and drifts. ``filtered`` leaves the nugget out of the estimate as error of
    measurement. The drift is dropped to a constant where the samples do not tell it.
    """
    shapes, sills, ranges = model
    px, py, pv, pf, pn = samples
    x, y, f = places
    k, p = near.shape[1], pf.shape[1]
    plate = shapes[0] == 5
    sill = sills.sum() + nugget
    for i in numba.prange(x.size):
        a, b = np.empty((k + p, k + p)), np.empty(k + p)
        c, m = np.empty(k), np.empty((k, k))
        for u in range(k):
            s = near[i, u]
            for v in range(u + 1):
                t = near[i, v]
                dx, dy = px[s] - px[t], py[s] - py[t]
                h2 = dx * dx + dy * dy
                m[u, v] = m[v, u] = covariance(shapes, sills, ranges, h2)
            m[u, u] += nugget * pn[s]
            dx, dy = px[s] - x[i], py[s] - y[i]
            h2 = dx * dx + dy * dy
            c[u] = covariance(shapes, sills, ranges, h2)
            if h2 == 0.0 and not filtered:
                c[u] += nugget * pn[s]
        done = False
        for terms in (p, 1):
            n = k + terms
            for u in range(k):
                s = near[i, u]
                for v in range(k):
                    a[u, v] = m[u, v]
                away = np.sqrt((px[s] - x[i]) ** 2 + (py[s] - y[i]) ** 2)
                a[u, u] += _loss(away, reach[i], 1.0 if plate else sill)
                b[u] = c[u]
                for q in range(terms):
                    a[u, k + q] = a[k + q, u] = pf[s, q]
            for q in range(terms):
                b[k + q] = f[i, q]
                for r in range(terms):
                    a[k + q, k + r] = 0.0
            if _solve(a[:n, :n], b[:n]):
                done = True
                break
        if not done:
            out[i], spread[i] = np.nan, np.nan
            continue
        value, variance = 0.0, sill - (nugget if filtered else 0.0)
        for u in range(k):
            value += b[u] * pv[near[i, u]]
            variance -= 2.0 * b[u] * c[u]
            for v in range(k):
                variance += b[u] * b[v] * m[u, v]
        out[i] = value
        spread[i] = 0.0 if plate else np.sqrt(max(variance, 0.0))
