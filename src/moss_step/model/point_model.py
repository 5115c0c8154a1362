"""What tells classes of points apart: measures, and numbers that were learned from examples."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

import numpy as np

from moss_step.model.cloud import PointClass, class_name
from moss_step.model.derived import Derived


@dataclass(frozen=True, eq=False)
class PointModel:
    """Classes that were learned, and all that is needed to find them again.

    ``measures`` are columns in the order in which ``arrays`` speak of them: measures of shape at ``radii``
    metres, ``height_above``, and others of the points. The ``forest`` of a number of trees has its nodes one
    after another: ``measure`` (-1 at a leaf), ``bound``, ``below`` and ``above`` (later nodes, 0 at a leaf),
    ``share`` of each class (nodes, classes), and ``roots``. ``gaussian`` classes have ``mean`` (classes,
    measures), ``inverse`` of the covariance (classes, measures, measures) and ``constant`` (classes).
    Either has the ``weight`` of each measure (measures), and ``low`` and ``high`` between which the examples
    of the first class lie (measures; infinite where that counts for nothing). ``about`` is what it says of
    its training, in words and numbers.
    """

    name: str
    method: str
    classes: tuple[PointClass, ...]
    measures: tuple[str, ...]
    radii: tuple[float, ...]
    arrays: Mapping[str, np.ndarray]
    about: Mapping[str, object] = field(default_factory=dict)
    derived: Derived = field(default_factory=Derived, init=False, repr=False)

    @property
    def nbytes(self) -> int:
        """Size in memory."""
        return sum(int(a.nbytes) for a in self.arrays.values())


REST = PointClass(1, class_name(1), "#B9B6A8")
"""What is none of the classes that were asked for."""
