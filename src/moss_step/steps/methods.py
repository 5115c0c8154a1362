"""Which method between places foretells those that it was not told."""

from __future__ import annotations

import numpy as np

from moss_step.model.errors import MossError
from moss_step.model.findings import Finding
from moss_step.model.outcome import Outcome
from moss_step.model.progress import Progress
from moss_step.model.shapes import Shapes
from moss_step.model.surface import Surface
from moss_step.model.table import Table
from moss_step.model.typed import as_kind
from moss_step.science.interpolate.kriging import ALL_AT_ONCE
from moss_step.science.interpolate.surfaces import METHODS, plane_around
from moss_step.steps.declare import Inputs, InputSpec, StepKind, optional, setting
from moss_step.steps.places import (
    BREAKS,
    BYTES_A_PAIR,
    MEAN_ERROR,
    POINTS,
    RMSE,
    ModelSettings,
    gathered,
    prepared,
)

_FEWEST = 4
"""Places without which nothing can be foretold from others."""


class CompareMethodsSettings(ModelSettings):
    """Settings of compare_methods."""

    unlisted = ("method",)
    folds: int = setting(
        10, "Folds", "The places are left out in so many parts, drawn by a seed.", ge=2, le=1000
    )


def _compare_methods(settings: CompareMethodsSettings, inputs: Inputs, progress: Progress) -> Outcome:
    got = gathered(settings, inputs)
    if len(got.held) < _FEWEST:
        raise MossError(f"{len(got.held)} places are too few to leave some out.", "Take more points.")
    x, y = got.held.x, got.held.y
    box = float(x.min()), float(y.min()), float(x.max()), float(y.max())
    plane = plane_around(box, got.crs)
    drift, rows, said = optional(inputs, "drift", Surface), [], list(got.said)
    for k, method in enumerate(METHODS):
        progress.at(k / len(METHODS), f"Leaving places out: {method.replace('_', ' ')}")
        try:
            own = settings.model_copy(update={"method": method})
            made, _ = prepared(own, got, plane, drift if method == "kriging" else None)
            errors, expected = made.left_out(settings.folds)
        except MossError as error:
            said.append(f"{method.replace('_', ' ').capitalize()}: {error}")
            continue
        rows.append(_row(method, errors, expected))
    if not rows:
        raise MossError("No method can foretell any of these places.", "Take more points.")
    rows.sort(key=lambda r: r["rmse"])
    columns = {
        name: np.array([r[name] for r in rows], object if name == "method" else None) for name in rows[0]
    }
    units = dict.fromkeys(("mean_error", "rmse", "mean_absolute", "largest"), got.unit)
    best = rows[0]
    findings = (
        Finding(RMSE, float(best["rmse"]), got.unit),
        Finding(MEAN_ERROR, float(best["mean_error"]), got.unit),
    )
    words = str(best["method"]).replace("_", " ")
    return Outcome(Table(columns, units), f"best: {words}", findings, tuple(said))


def _row(method: str, errors: np.ndarray, expected: np.ndarray) -> dict[str, float | str]:
    known = errors[np.isfinite(errors)]
    spread = errors / expected
    spread = spread[np.isfinite(spread)]
    if not known.size:
        raise MossError("no place that was left out lay between the others.")
    return {
        "method": method,
        "mean_error": float(known.mean()),
        "rmse": float(np.sqrt((known**2).mean())),
        "mean_absolute": float(np.abs(known).mean()),
        "largest": float(np.abs(known).max()),
        "standardised_spread": float(np.sqrt((spread**2).mean())) if spread.size else float("nan"),
        "foretold_places": float(known.size),
    }


def _memory(settings: CompareMethodsSettings, inputs: Inputs) -> float:
    """Bytes: covariances of all pairs, some times, and arrays of places."""
    count = len(as_kind(inputs["points"], Shapes))
    return 3.0 * BYTES_A_PAIR * min(count, ALL_AT_ONCE) ** 2 + 2000.0 * count


compare_methods = StepKind(
    kind="compare_methods",
    example="points=checks.gpkg column=z",
    bench="surface",
    group="Between places",
    title="Compare methods",
    question="Which method foretells places that it was not told?",
    help=(
        "Leaves places out, part by part, and says how far each method is off there: mean error, root mean "
        "square error, and whether kriging's own error is right (spread of standardised errors near 1)."
    ),
    formula=(
        "error = measured − found from the other parts; rmse = √(Σ error² / n); "
        "spread = √(Σ (error / expected)² / n)"
    ),
    words=("cross-validation", "leave one out", "k-fold", "validation", "best method", "rmse"),
    inputs=(
        POINTS, BREAKS,
        InputSpec("drift", "surface", "Drift", "A surface that the values follow.", True, more=True),
    ),
    settings=CompareMethodsSettings,
    gives="table",
    run=_compare_methods,
    memory=_memory,
    label=lambda s, names: f"Methods for {names['points']}",
    staple=2,
)  # fmt: skip
