"""Moss Step: terrain analysis on the desk, from elevation grids to classes and areas."""

import os
import sys
from importlib import import_module

from moss_step.start import end_in_silence, is_the_program

if is_the_program():
    end_in_silence()

from moss_step.kernels import use_folder

# The plan is coloured by parallel kernels while a step may run others in its own thread: only a
# threading layer that is safe for that may be used.
os.environ.setdefault("NUMBA_THREADING_LAYER", "omp")
# Colours of messages that nobody sees take a twentieth of the time of compiling.
os.environ.setdefault("NUMBA_DISABLE_ERROR_MESSAGE_HIGHLIGHTING", "1")
# Idle OpenMP threads would otherwise spin between two frames and starve the other core.
os.environ.setdefault("OMP_WAIT_POLICY", "passive")
use_folder()

__version__ = "0.1.0"


def __getattr__(name: str) -> object:
    """Steps as functions, results and errors, loaded when they are first asked for: they need all that the
    package holds.
    """
    if name.startswith("_"):
        raise AttributeError(name)
    inside = sys.modules.get(f"{__name__}.{name}")
    if inside is not None:  # another thread is loading it: what loads it in turn would meet half of it
        return inside
    door, errors = (import_module(f"moss_step.{module}") for module in ("door", "model.errors"))
    if name in ("MossError", "AskedWronglyError"):
        return getattr(errors, name)
    if name == "Result":
        return door.Result
    try:
        result = globals()[name] = door.function(name)
    except errors.MossError as error:
        raise AttributeError(str(error)) from None
    return result


def __dir__() -> list[str]:
    catalogue = import_module("moss_step.steps.catalogue").catalogue
    return [*catalogue(), "Result", "MossError", "AskedWronglyError", "__version__"]
