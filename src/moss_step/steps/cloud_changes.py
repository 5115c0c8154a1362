"""Two classifications of one cloud against each other."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from moss_step.formats.las_write import with_classes
from moss_step.model.cloud import CHUNK, Cloud
from moss_step.model.errors import MossError
from moss_step.model.findings import MAIN, USUAL, Finding, declared
from moss_step.model.outcome import Outcome
from moss_step.model.progress import Progress
from moss_step.model.table import Table
from moss_step.model.typed import as_kind
from moss_step.model.units import COUNT, NONE, SHARE
from moss_step.science.points.learning import scores
from moss_step.steps.cloud_classes import changes_of, classes_of
from moss_step.steps.declare import Inputs, InputSpec, ResultSpec, Settings, StepKind

_AGREEMENT = declared("agreement", "Agreement", MAIN)
_KAPPA = declared("kappa", "Kappa", MAIN)
_CHANGED = declared("changed_points", "Points that changed", USUAL)
_TOLERANCE = 0.005
"""Metres that the same point may lie apart in two files: they were rounded."""


class ClassChangeSettings(Settings):
    """Settings of cloud_changes."""


def _cloud_changes(settings: ClassChangeSettings, inputs: Inputs, progress: Progress) -> Outcome:
    first, second = as_kind(inputs["before"], Cloud), as_kind(inputs["after"], Cloud)
    progress.at(0.1, "Holding point against point")
    _check_same(first, second)
    before, after = classes_of(first), classes_of(second)
    pairs = np.zeros((256, 256), np.int64)
    for start in range(0, len(before), CHUNK):
        part = slice(start, start + CHUNK)
        both = np.asarray(before[part]).astype(np.int64) * 256 + after[part]
        pairs += np.bincount(both, minlength=256 * 256).reshape(256, 256)
    found = scores(pairs)
    changed = before != after
    named = second.with_own(*(c for c in first.own if c.code not in {o.code for o in second.own}))
    value = with_classes(named, np.asarray(after))
    value = replace(
        value, attributes={**value.attributes, "changed": changed.astype(np.uint8), "class_before": before}
    )
    kappa = float(found["kappa"][0])
    findings = (
        Finding(_AGREEMENT, float(found["agreement"][0]), SHARE),
        *((Finding(_KAPPA, kappa, NONE),) if kappa == kappa else ()),
        Finding(_CHANGED, int(changed.sum()), COUNT),
    )
    figure = f"{int(changed.sum()):,} points differ".replace(",", " ")
    return Outcome(
        value, figure, findings,
        beside={
            "changes": lambda: Outcome(changes_of(before, after, named), figure, findings),
            "counts": lambda: Outcome(_counts(pairs, named), figure, findings),
        },
    )  # fmt: skip


def _check_same(first: Cloud, second: Cloud) -> None:
    if len(first) != len(second):
        raise MossError(
            f"The clouds have {len(first):,} and {len(second):,} points.",
            "Compare two classifications of one cloud.",
        )
    east, north = first.plan_metres
    for scale, name in ((east, "x"), (north, "y"), (first.unit.metres, "z")):
        one, other = getattr(first, name), getattr(second, name)
        for start in range(0, len(first), CHUNK):
            part = slice(start, start + CHUNK)
            if (np.abs(one[part] - other[part]) * scale > _TOLERANCE).any():
                raise MossError(
                    "The clouds are not the same points in the same order.",
                    "Compare two classifications of one cloud.",
                )


def _counts(pairs: np.ndarray, cloud: Cloud) -> Table:
    """Points of each class before and after, and of how many both say the same."""
    before, after, same = pairs.sum(axis=1), pairs.sum(axis=0), np.diag(pairs)
    held = np.flatnonzero(before + after)
    found = scores(pairs)
    return Table(
        {
            "class": held.astype(np.int32),
            "name": np.array([cloud.class_name(int(c)) for c in held], object),
            "points_before": before[held],
            "points_after": after[held],
            "same_points": same[held],
            "f1": found["f1"][held],
        },
        {"f1": SHARE},
    )


cloud_changes = StepKind(
    kind="cloud_changes",
    example="before=cloud.laz after=cloud.laz -o counts=counts.csv",
    bench="points",
    group="Classes of points",
    title="Compare classes",
    question="Where do two classifications differ?",
    help=(
        "Holds two classifications of one cloud against each other: which class became which, where, "
        "and how well "
        "they agree."
    ),
    formula="agreement = same / all; "
    "kappa = (agreement − chance) / (1 − chance); F1 = 2 × same / (before + after)",
    words=("confusion matrix", "difference", "accuracy", "kappa", "from to", "before and after", "clean-up"),
    inputs=(
        InputSpec("before", "cloud", "Before", "One classification, or the true one."),
        InputSpec("after", "cloud", "After", "The other, of the same points."),
    ),
    settings=ClassChangeSettings,
    gives="cloud",
    run=_cloud_changes,
    label=lambda s, names: f"{names['before']} and {names['after']}",
    look={"column": "changed"},
    memory=lambda s, inputs: 20.0 * len(as_kind(inputs["before"], Cloud)),
    main="Points",
    beside=(
        ResultSpec("changes", "table", "Changes", "How many points went from which class to which."),
        ResultSpec("counts", "table", "Class counts", "Points of each class before and after."),
    ),
    staple=15,
)
