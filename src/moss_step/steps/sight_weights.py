"""What cells that are seen count, such as people: for all steps of sight that weigh."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np

from moss_step.model.findings import Finding
from moss_step.model.surface import Surface
from moss_step.model.units import SHARE, Unit
from moss_step.science.sight.observer import Observer
from moss_step.steps.declare import Inputs, optional
from moss_step.steps.results import unweighted


def unweighted_remarks(inputs: Inputs, dem: Surface) -> list[str]:
    """Say how many cells of the ground have no weight, when there are weights."""
    weights = optional(inputs, "weights", Surface)
    return unweighted(weights, dem) if weights is not None else []


def amount_of(weights: np.ndarray) -> np.ndarray:
    """Weights of cells (float64), 0 for those without one."""
    return np.asarray(np.nan_to_num(weights).astype(np.float64))


class PartSeen(NamedTuple):
    """What one observer sees in a part of some cells: its number, where that part lies, and which of it."""

    observer: int
    where: Any
    hit: np.ndarray


@dataclass(frozen=True)
class Weighed:
    """Weights of cells by how many observers see them and by which of the first do, and how many cells the
    former are.
    """

    by_number: np.ndarray
    cells: np.ndarray
    by_each: np.ndarray

    def __add__(self, other: Weighed) -> Weighed:
        return Weighed(
            self.by_number + other.by_number, self.cells + other.cells, self.by_each + other.by_each
        )


def weigh(weights: np.ndarray, count: np.ndarray, seen: Iterable[PartSeen], most: int, each: int) -> Weighed:
    """Weigh some cells: ``count`` says how many see each (NaN: no ground), up to ``most`` told apart;
    ``seen`` gives which parts of them single observers see, of whom the first ``each`` count.
    """
    amount, some, by_each = amount_of(weights), ~np.isnan(count), np.zeros(each)
    number = np.minimum(count[some], most + 1).astype(np.int64)
    for observer, where, hit in seen:
        if observer < each:
            by_each[observer] += amount[where][hit].sum()
    return Weighed(
        np.bincount(number, amount[some], most + 2), np.bincount(number, minlength=most + 2), by_each
    )


def weight_findings(weighed: Weighed, unit: Unit, each: Sequence[Observer]) -> list[Finding]:
    """How much of a weight, such as people per cell, is seen: by any, by each number of observers, and by
    each of the first.
    """
    by_number = weighed.by_number
    total = float(by_number.sum()) or 1.0
    findings = [Finding("seen_weight_share", float(by_number[1:].sum()) / total, SHARE)]
    findings += [
        Finding("weight", float(amount), unit, f"seen by {k}")
        for k, amount in enumerate(by_number[:-1])
        if weighed.cells[k]
    ]
    for observer, amount in zip(each, weighed.by_each, strict=True):
        findings += [
            Finding("weight", float(amount), unit, observer.name),
            Finding("weight_share", float(amount) / total, SHARE, observer.name),
        ]
    return findings
