"""What cells that are seen count, such as people: for all steps of sight that weigh."""

from __future__ import annotations

import numpy as np

from moss_step.model.surface import Surface
from moss_step.steps.declare import Inputs, optional
from moss_step.steps.results import unweighted


def unweighted_remarks(inputs: Inputs, dem: Surface) -> list[str]:
    """Say how many cells of the ground have no weight, when there are weights."""
    weights = optional(inputs, "weights", Surface)
    return unweighted(weights, dem) if weights is not None else []


def amount_of(weights: np.ndarray) -> np.ndarray:
    """Weights of cells (float64), 0 for those without one."""
    return np.asarray(np.nan_to_num(weights).astype(np.float64))
