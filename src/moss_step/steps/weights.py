"""Weights of several criteria: given, or from comparisons of each with each."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Annotated, Any

import numpy as np
from pydantic import BeforeValidator

from moss_step.model.errors import AskedWronglyError
from moss_step.model.findings import Finding
from moss_step.model.outcome import Outcome
from moss_step.model.units import NONE
from moss_step.science.algebra import criteria
from moss_step.steps.declare import Settings, setting


def by_commas(value: Any) -> Any:
    """Parts of a text between commas; what is no text stays."""
    return [part.strip() for part in value.split(",")] if isinstance(value, str) and value.strip() else value


def _fraction(text: str) -> float:
    top, mark, bottom = text.partition("/")
    return float(top) / float(bottom) if mark else float(top)


class WeightSettings(Settings):
    """Weights of several criteria, given or from comparisons."""

    weights: Annotated[tuple[float, ...] | None, BeforeValidator(by_commas)] = setting(
        None,
        "Weights",
        "One for each criterion in their order, with commas; they are brought to a sum of 1.",
        when={"rule": ("weighted",)},
    )
    comparisons: str | None = setting(
        None,
        "Comparisons",
        "A reciprocal table instead of weights, rows with semicolons: 1,3,5; 1/3,1,2; 1/5,1/2,1.",
        when={"rule": ("weighted",)},
        more=True,
    )

    def shares(self, names: Sequence[str]) -> tuple[list[float], tuple[Finding, ...], tuple[str, ...]]:
        """Weights for named criteria, with findings that state them and a warning when comparisons contradict
        each other.
        """
        if (self.weights is None) == (self.comparisons is None):
            raise AskedWronglyError(
                "There must be either weights or comparisons.",
                "Type weights such as 2, 1, 1.",
                "Give weights=2,1,1 for example.",
            )
        findings: list[Finding] = []
        warnings: tuple[str, ...] = ()
        if self.comparisons is None:
            weights = np.asarray(self.weights, np.float64)
        else:
            weights, ratio = criteria.pairwise_weights(_comparison_table(self.comparisons))
            findings = [Finding("consistency_ratio", ratio, NONE)]
            warnings = _contradiction(ratio)
        shares = criteria.normalised(weights, len(names))
        findings += [Finding("weight", float(w), NONE, n) for n, w in zip(names, shares, strict=True)]
        return list(shares), tuple(findings), warnings


def _contradiction(ratio: float) -> tuple[str, ...]:
    if ratio <= 0.1:
        return ()
    return (
        f"The comparisons contradict each other: consistency ratio {ratio:.2f}, and up to 0.10 is usual.",
    )


def _comparison_table(text: str) -> np.ndarray:
    try:
        return np.array([[_fraction(v.strip()) for v in row.split(",")] for row in text.split(";")])
    except (ValueError, ZeroDivisionError):
        raise AskedWronglyError(
            "The comparisons cannot be read.", "Write rows like 1,3,5; 1/3,1,2; 1/5,1/2,1."
        ) from None


def with_weights(outcome: Outcome, weights: tuple[Finding, ...]) -> Outcome:
    """An outcome that states its weights, too."""
    stated = frozenset(f.name for f in weights)
    return replace(outcome, findings=(*outcome.findings, *weights), stated=stated)
