"""Moss Step: terrain analysis on the desk, from elevation grids to classes and areas."""

import os

# The plan is coloured by parallel kernels while a step may run others in its own thread: only a
# threading layer that is safe for that may be used.
os.environ.setdefault("NUMBA_THREADING_LAYER", "omp")
# Idle OpenMP threads would otherwise spin between two frames and starve the other core.
os.environ.setdefault("OMP_WAIT_POLICY", "passive")

__version__ = "0.1.0"
