"""Round numbers for bars and nets."""

from __future__ import annotations

import math


def round_below(most: float) -> float:
    """The largest of 1, 2 and 5 times a power of ten that is no larger than a positive number."""
    power = 10.0 ** math.floor(math.log10(most))
    return max(k for k in (1.0, 2.0, 5.0, 10.0) if k == 1.0 or k * power <= most * (1 + 1e-9)) * power
