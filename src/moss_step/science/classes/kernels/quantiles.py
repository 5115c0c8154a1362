"""Kernels: counting the digits of values in the order of these."""

from __future__ import annotations

import numba
import numpy as np

from moss_step.science.kernels.numeric import first_from

DIGIT = 11
"""Bits that are counted in one pass."""


@numba.njit(cache=True, nogil=True, parallel=True)
def count_digits(values, bits, width, known, before, counts):
    """Count the digit behind the first ``known`` bits of the values whose first bits are one of ``before``
    (in ascending order); one part of ``counts`` for each block of values.

    ``bits`` are the same values as whole numbers of ``width`` bits, which are turned to keep their order.
    """
    one, sign = np.uint64(1), np.uint64(1) << np.uint64(width - 1)
    every = sign | (sign - one)
    digit = min(DIGIT, width - known)
    shift, mask = np.uint64(width - known - digit), (one << np.uint64(digit)) - one
    blocks = counts.shape[0]
    for b in numba.prange(blocks):
        here = counts[b]
        for n in range(b * values.size // blocks, (b + 1) * values.size // blocks):
            if values[n] != values[n]:
                continue
            key = np.uint64(bits[n])
            key ^= every if key & sign else sign
            key >>= shift
            at = 0
            if known > 0:
                first = key >> np.uint64(digit)
                at = first_from(before, first, 0, before.size)
                if at == before.size or before[at] != first:
                    continue
            here[at, np.int64(key & mask)] += 1
