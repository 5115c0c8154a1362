"""The window: Qt widgets over the study."""

import gc
from importlib import import_module

import numpy as np

# A million objects are made here that all stay. To look through them again and again is a twentieth of the
# start,
# and later it would hold the window up for a tenth of a second.
gc.disable()
try:
    # Once Qt is loaded it looks at every import that comes after it, so the steps, their libraries and all
    # that a first kernel loads come first.
    from moss_step.model.summary import summarise
    from moss_step.steps.catalogue import catalogue

    catalogue()
    summarise(np.zeros((1, 1), np.float32))
    for large in ("QtGui", "QtSvg", "QtWidgets"):
        import_module(f"PySide6.{large}")
finally:
    gc.freeze()
    gc.set_threshold(700, 10, 10)  # what looks seldom holds the window up for long when it does
    gc.enable()
