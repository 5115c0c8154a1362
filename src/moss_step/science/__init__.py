"""How it is worked out: arrays and model types in, the same out; no files, no interface."""

import sys
from importlib import import_module

# Numba looks for a linear algebra library before its first kernel, and loads all of scipy.linalg for it: a
# quarter of a second of every start.
# No kernel here multiplies matrices, so it is told that there is none.
_LINEAR_ALGEBRA = "scipy.linalg.cython_blas"

if _LINEAR_ALGEBRA not in sys.modules:
    sys.modules[_LINEAR_ALGEBRA] = None  # type: ignore[assignment]  # the documented way to have an import fail
    try:
        import_module("numba.np.arraymath")
    finally:
        del sys.modules[_LINEAR_ALGEBRA]
