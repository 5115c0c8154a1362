"""Surface: how values differ with distance and bearing, from pairs of places, with a model through them."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from moss_step.model.chart import Chart
from moss_step.model.outcome import Outcome
from moss_step.model.progress import Progress
from moss_step.model.shapes import Shapes
from moss_step.model.table import Table
from moss_step.model.telling import mark
from moss_step.model.typed import as_kind
from moss_step.model.units import BEARING, METRE
from moss_step.science.interpolate.surfaces import plane_around
from moss_step.science.interpolate.variogram import (
    Experimental,
    Shape,
    Variogram,
    experimental,
    fit,
    pair_cloud,
    variogram_map,
)
from moss_step.steps.declare import Inputs, ResultSpec, StepKind, setting
from moss_step.steps.places import POINTS, MeasuredSettings, gathered, model_findings

_BEARINGS = {"north": 0.0, "north_east": 45.0, "east": 90.0, "south_east": 135.0}
_CURVE_POINTS = 60
_MOST_BYTES = 400.0


class VariogramSettings(MeasuredSettings):
    """Settings of variogram."""

    shape: Shape | None = setting(
        None, "Shape", "Of the model; left out, the one that fits best, but no Gaussian one."
    )
    lag: float | None = setting(
        None, "Lag", "From one distance to the next; left out, a fifteenth of the longest.", unit="m", gt=0
    )
    longest: float | None = setting(
        None, "Longest", "Pairs farther apart do not count; left out, a third of the extent.", unit="m", gt=0
    )
    directions: bool = setting(
        False, "By bearing", "Pairs along four bearings beside those in any: values may run on along one."
    )


def _variogram(settings: VariogramSettings, inputs: Inputs, progress: Progress) -> Outcome:
    got = gathered(settings, inputs)
    held = got.held
    x, y = held.x, held.y
    box = float(x.min()), float(y.min()), float(x.max()), float(y.max())
    u, v = plane_around(box, got.crs).places(x, y)
    progress.at(0.1, "Counting pairs")
    seen = experimental(u, v, held.values, lag=settings.lag, longest=settings.longest)
    progress.at(0.5, "Fitting a model")
    model = fit(seen, settings.shape)
    curves = {"semivariance": seen}
    if settings.directions:
        for k, (name, bearing) in enumerate(_BEARINGS.items()):
            progress.at(0.6 + 0.1 * k, "Counting pairs by bearing")
            curves[name] = experimental(
                u, v, held.values, lag=settings.lag, longest=settings.longest, bearing=bearing
            )

    def pairs() -> Outcome:
        rows = pair_cloud(u, v, held.values)
        columns = {
            "distance": rows[:, 0], "bearing": rows[:, 1], "semivariance": rows[:, 2],
            "first": rows[:, 3].astype(np.int64) + 1, "second": rows[:, 4].astype(np.int64) + 1,
        }  # fmt: skip
        table = Table(columns, {"distance": METRE, "bearing": BEARING})
        return Outcome(table, f"{len(rows):,} pairs", tuple(model_findings(model)))

    def by_way() -> Outcome:
        made = variogram_map(u, v, held.values, longest=settings.longest)
        north, east = np.meshgrid(made.lag, made.lag, indexing="ij")
        columns = {
            "east_m": east.ravel(), "north_m": north.ravel(), "semivariance": made.semivariance.ravel(),
            "pairs": made.pairs.ravel(),
        }  # fmt: skip
        return Outcome(Table(columns), f"{made.lag.size} by {made.lag.size}", tuple(model_findings(model)))

    return Outcome(
        variogram_chart(curves, model), _figure(model), tuple(model_findings(model)), got.said,
        beside={"pairs": pairs, "map": by_way},
    )  # fmt: skip


def _figure(model: Variogram) -> str:
    return f"range {mark(max(s.range for s in model.structures), METRE)}"


def variogram_outcome(seen: Experimental, model: Variogram) -> Outcome:
    """What pairs show, and the model through them."""
    chart = variogram_chart({"semivariance": seen}, model)
    return Outcome(chart, _figure(model), tuple(model_findings(model)))


def variogram_chart(curves: Mapping[str, Experimental], model: Variogram) -> Chart:
    """Curves over distance: of pairs, by name, each where it has some, and of the model."""
    first = next(iter(curves.values()))
    parts = [
        *(c.distance for c in curves.values()),
        np.linspace(0.0, float(first.distance.max()), _CURVE_POINTS)[1:],
    ]
    at = np.unique(np.concatenate(parts))
    columns = {"distance": at}
    for name, curve in curves.items():
        columns[name] = np.full(len(at), np.nan)
        columns[name][np.searchsorted(at, curve.distance)] = curve.semivariance
    pairs = np.full(len(at), np.nan)
    pairs[np.searchsorted(at, first.distance)] = first.pairs
    columns |= {"model": model.semivariance(at), "pairs": pairs}
    return Chart(columns, {"distance": METRE}, "distance", (*curves, "model"), tuple(curves))


variogram_step = StepKind(
    kind="variogram",
    example="points=checks.gpkg column=z directions=true",
    bench="surface",
    group="Between places",
    title="Variogram",
    question="How do values differ with distance and bearing?",
    help=(
        "Half of the mean squared difference of pairs of places by their distance, by four bearings where "
        "asked, and the model that fits; beside it the pairs one by one."
    ),
    formula="γ(h) = Σ (zᵢ − zⱼ)² / 2n over the n pairs whose distance is about h",
    words=("semivariogram", "semivariance", "geostatistics", "spatial correlation", "anisotropy", "nugget"),
    inputs=(POINTS,),
    settings=VariogramSettings,
    gives="chart",
    run=_variogram,
    memory=lambda s, inputs: _MOST_BYTES * len(as_kind(inputs["points"], Shapes)) + 4e5,
    label=lambda s, names: f"Variogram of {names['points']}",
    main="By distance",
    beside=(
        ResultSpec("pairs", "table", "Pairs", "Each pair of some places.", asked=True),
        ResultSpec("map", "table", "By way", "A row for each way to the east and north.", asked=True),
    ),
    staple=2,
)
