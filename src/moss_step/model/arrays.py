"""Arrays as kernels take them."""

from __future__ import annotations

import numpy as np


def read_only(values: np.ndarray, dtype: np.dtype) -> np.ndarray:
    """Values row by row in a native type, that cannot be written into: a view where they are so already, else
    a copy.

    The array that is given stays as it is, and may be written into.
    """
    view = np.ascontiguousarray(values, dtype).view()
    view.flags.writeable = False
    return view
