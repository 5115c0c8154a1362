"""A class of one's own: taught by a few examples, and found again in this or another cloud."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Annotated, Any

import numpy as np
import shapely
from pydantic import BeforeValidator, Field

from moss_step.formats.las_write import with_classes
from moss_step.formats.vector import in_system
from moss_step.model.cloud import FIRST_OWN, Cloud, PointClass
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.findings import MAIN, USUAL, Finding, declared
from moss_step.model.outcome import Outcome
from moss_step.model.point_model import REST, PointModel
from moss_step.model.progress import Progress
from moss_step.model.shapes import Shapes
from moss_step.model.table import Table
from moss_step.model.typed import as_kind, is_text, one_line
from moss_step.model.units import COUNT, SHARE
from moss_step.science.points.blocks import MOST
from moss_step.science.points.edits import in_area
from moss_step.science.points.features import names_for
from moss_step.science.points.learning import (
    Method,
    confusion,
    learned,
    left_out,
    likely_others,
    reach_of,
    scores,
)
from moss_step.science.points.measures import BANDS
from moss_step.science.points.objects import (
    DOUBT,
    Standing,
    by_blocks,
    columns_of,
    has_echoes,
    own_class,
    standing,
)
from moss_step.science.points.picking import Segmented
from moss_step.science.points.segments import SEGMENT
from moss_step.steps.cloud_classes import classes_of
from moss_step.steps.clouds import CLOUD, Codes
from moss_step.steps.declare import Inputs, InputSpec, ResultSpec, Settings, StepKind, optional, setting
from moss_step.steps.radii import RadiiField, radii_of

_PRECISION = declared("precision", "Precision", MAIN)
_RECALL = declared("recall", "Recall", MAIN)
_F1 = declared("f1", "F1", USUAL)
_EXAMPLES = declared("examples", "Examples", USUAL)
_COUNTER = declared("counter_examples", "Counter-examples", USUAL)
_POINTS = declared("example_points", "Points of examples", USUAL)
_IN_CLASS = declared("class_points", "Points of the class", MAIN)
_DOUBTFUL = declared("doubtful_points", "Doubtful points", MAIN)
_FEWEST, _APART, _MOST_POINTS, _OTHERS = 2, 0.8, 100_000, 4_000
"""Examples that a class needs at the least, precision and recall that tell it apart, points of examples that
are learned from at the most, and other points that stand in as counter-examples.
"""
_SEED = 3
_YES = {
    "yes": True,
    "true": True,
    "1": True,
    "1.0": True,
    "no": False,
    "false": False,
    "0": False,
    "0.0": False,
}


def _picks(value: Any) -> Any:
    """Places of points from text such as ``x,y,z;x,y``."""
    if isinstance(value, str):
        parts = [p.split(",") for p in value.split(";") if p.strip()]
        if any(len(p) not in (2, 3) for p in parts):
            raise ValueError("places as x,y,z;x,y,z")
        return parts
    return value


_Place = tuple[float, float] | tuple[float, float, float]
PicksField = Annotated[tuple[_Place, ...], BeforeValidator(_picks), Field(max_length=10_000)]
"""Places of points, with their heights or without."""


class TrainSettings(Settings):
    """Settings of train_class."""

    name: str = setting("Own class", "Name", "What the class is called.", min_length=1, max_length=60)
    code: int = setting(FIRST_OWN, "Code", "From 64 on codes are free.", ge=FIRST_OWN, le=255, more=True)
    color: str = setting(
        "#8A5A2B", "Colour", "Red, green and blue as #RRGGBB.", pattern=r"^#[0-9A-Fa-f]{6}$", more=True
    )
    yes: PicksField = setting(
        (), "Examples", "Click segments that are the class[[: x,y,z;x,y,z]].", control="picks"
    )
    no: PicksField = setting(
        (), "Counter-examples", "Click segments that are something else[[: x,y,z;x,y,z]].", control="picks"
    )
    method: Method = setting(
        "forest",
        "Learned by",
        "A `forest` of decision trees, or a normal distribution of each class.",
        more=True,
    )
    radii: RadiiField = setting(
        None, "Radii", "Metres around each point[[: 1,2,4]]; three by the spacing when left out.", more=True
    )
    rare: bool = setting(
        True,
        "Rare among the rest",
        "Some of the other points count as counter-examples. Not for a class that most points belong to.",
        more=True,
    )
    bands: bool = setting(
        False, "Intensity and colours", "They count, too: only for clouds that were flown alike.", more=True
    )
    classes: Codes = setting(
        (),
        "Classes",
        "Points of these classes count[[: 1,5]]; left out, all but ground, water and noise.",
        more=True,
    )


@dataclass(frozen=True, eq=False)
class _Examples:
    """Points of examples: their places among those that may get the class (n), the number of each one's
    example (n), and whether each example is of the class.
    """

    rows: np.ndarray
    number: np.ndarray
    is_class: np.ndarray


def _train_class(settings: TrainSettings, inputs: Inputs, progress: Progress) -> Outcome:
    cloud = as_kind(inputs["cloud"], Cloud)
    if not is_text(settings.name) or settings.name != one_line(settings.name):
        raise AskedWronglyError("The name of the class cannot be written in one line.", "Give another.")
    progress.at(0.02, "Looking at the examples")
    these = standing(cloud, classes_of(cloud), settings.classes, progress.part(0.02, 0.04))
    if not these.rows.size:
        raise MossError("No point is of these classes.", "Take other classes.")
    progress.at(0.04, "Looking at the examples")
    examples = _gathered(settings, cloud, these, optional(inputs, "samples", Shapes))
    radii = radii_of(settings.radii, cloud, 3)
    bands = [b for b in BANDS if settings.bands and b in cloud.attributes]
    own = PointClass(settings.code, settings.name, settings.color)
    blank = PointModel(
        settings.name, settings.method, (own, REST), names_for(radii, bands, has_echoes(cloud)), radii, {}
    )
    values = columns_of(these, blank, progress.part(0.05, 0.5))
    rows, codes, number = _taught_by(settings, examples, len(these.rows))
    progress.at(0.5, "Growing trees")
    if settings.rare:
        kept = ~likely_others(values[rows], codes, number < 0, settings.method)
        rows, codes, number = rows[kept], codes[kept], number[kept]
    held = values[rows]
    arrays = learned(held, codes, settings.method)
    low, high = reach_of(values[examples.rows[examples.is_class[examples.number]]])
    given, share = left_out(
        held, codes, number, (settings.method, blank.classes, None), progress.part(0.6, 1.0)
    )
    about = _about(cloud, examples, settings)
    model = replace(blank, arrays={**arrays, "low": low, "high": high}, about=about)
    return _judged(model, examples, codes, number, given, share)


def _taught_by(
    settings: TrainSettings, examples: _Examples, count: int
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Points that teach, their class (0 is the one that is taught), and the number of each one's example; of
    other points that stand in as counter-examples -1.
    """
    rng = np.random.default_rng(_SEED)
    some = np.arange(len(examples.rows))
    if len(some) > _MOST_POINTS:
        some = np.sort(rng.choice(some, _MOST_POINTS, replace=False))
    rows, number = examples.rows[some], examples.number[some]
    codes = np.where(examples.is_class[number], 0, 1)
    if not settings.rare:
        return rows, codes, number
    others = np.setdiff1d(np.arange(count), examples.rows)
    others = rng.choice(others, min(len(others), _OTHERS), replace=False)
    return (
        np.concatenate([rows, others]),
        np.concatenate([codes, np.ones(len(others), codes.dtype)]),
        np.concatenate([number, np.full(len(others), -1)]),
    )


def _gathered(settings: TrainSettings, cloud: Cloud, these: Standing, samples: Shapes | None) -> _Examples:
    """The points of all examples.

    Raises MossError for too few, and for samples that say what cannot be read.
    """
    parts: list[tuple[np.ndarray, bool]] = []
    held = Segmented.of(cloud)
    numbers = None if held is None else held.numbers[these.rows]
    for places, is_class in ((settings.yes, True), (settings.no, False)):
        if places and held is None:
            raise MossError("The points have no segments to pick.", "Run segments on them first.")
        for segment in dict.fromkeys(_picked(held, p) for p in places if held is not None):
            parts.append((np.flatnonzero(numbers == segment), is_class))
    if samples is not None:
        parts += _from_shapes(in_system(samples, cloud.crs), cloud, these, numbers)
    parts = _each_once(parts)
    count = {c: sum(is_class is c for _, is_class in parts) for c in (True, False)}
    for is_class, called in ((True, "examples"), (False, "counter-examples")):
        if count[is_class] < _FEWEST:
            raise AskedWronglyError(
                f"{_there(count[is_class], called)}, and a class needs {_FEWEST} or more of them.",
                "Pick more segments.",
            )
    rows = np.concatenate([r for r, _ in parts])
    number = np.repeat(np.arange(len(parts)), [len(r) for r, _ in parts])
    made = _Examples(rows, number, np.array([c for _, c in parts]))
    _check_spread(these, made)
    return made


def _there(count: int, called: str) -> str:
    return f"There is 1 {called.removesuffix('s')}" if count == 1 else f"There are {count} {called}"


def _check_spread(these: Standing, examples: _Examples) -> None:
    for is_class, called in ((True, "examples"), (False, "counter-examples")):
        rows = examples.rows[examples.is_class[examples.number] == is_class]
        places = np.column_stack([these.flat.x[rows], these.flat.y[rows], these.flat.z[rows]])
        if not np.ptp(places, axis=0).any():
            raise MossError(f"All {called} are in one place.", "Pick segments of several points.")


def _each_once(parts: Sequence[tuple[np.ndarray, bool]]) -> list[tuple[np.ndarray, bool]]:
    """Examples that hold points, none of them in two.

    Raises MossError where one is said to be of the class, and not to be.
    """
    taken = np.zeros(1 + max((int(r.max(initial=-1)) for r, _ in parts), default=-1), np.int8)
    result = []
    for rows, is_class in parts:
        mine, other = (1, 2) if is_class else (2, 1)
        if (taken[rows] == other).any():
            raise MossError("A segment is an example and a counter-example.", "Take it out of one of them.")
        new = rows[taken[rows] == 0]
        taken[rows] = mine
        if new.size:
            result.append((new, is_class))
    return result


def _picked(held: Segmented, place: _Place) -> int:
    """The segment of the point nearest to a place.

    Raises AskedWronglyError where none is near.
    """
    segment = held.at(place)
    if not segment:
        said = ", ".join(f"{v:g}" for v in place)
        raise AskedWronglyError(f"No segment lies at {said}.", "Pick it again, or run segments again.")
    return segment


def _from_shapes(
    samples: Shapes, cloud: Cloud, these: Standing, numbers: np.ndarray | None
) -> list[tuple[np.ndarray, bool]]:
    """Points of each shape: of its segment where it names one, else those inside an area, or within the first
    radius of a line or point.
    """
    answers = _answers(samples)
    named = samples.columns.get(SEGMENT)
    if named is not None and numbers is not None:
        return [(np.flatnonzero(numbers == int(n)), a) for n, a in zip(named, answers, strict=True)]
    east, north = cloud.plan_metres
    west, south = (0.0, 0.0) if cloud.bounds is None else cloud.bounds[0][:2]
    near = shapely.transform(samples.geometry, lambda xy: (xy - [west, south]) * [east, north])
    flat, thin = shapely.get_dimensions(near) < 2, radii_of(None, cloud)[0] / 2.0
    near = np.where(flat, shapely.buffer(near, thin), near)
    return [
        (np.flatnonzero(in_area(these.flat.x, these.flat.y, g)), a)
        for g, a in zip(near, answers, strict=True)
    ]


def _answers(samples: Shapes) -> list[bool]:
    """Whether each shape is of the class, by its column ``example``; all are without it."""
    held = samples.columns.get("example")
    if held is None:
        return [True] * len(samples)
    words = [str(v).strip().lower() for v in held]
    if strange := sorted(set(words) - _YES.keys()):
        raise MossError(
            f"The column example says '{one_line(strange[0])[:40]}'.", "Write yes or no, or 1 or 0, in it."
        )
    return [_YES[w] for w in words]


def _about(cloud: Cloud, examples: _Examples, settings: TrainSettings) -> dict[str, object]:
    yes = int(examples.is_class.sum())
    points = f"{len(examples.rows):,} points".replace(",", " ")
    return {
        "training": f"{yes} examples and {len(examples.is_class) - yes} counter-examples, {points}"
        + (", with other points as counter-examples" if settings.rare else ""),
        "system": cloud.crs or "none",
        "unit_of_radii": "metre",
    }


def _judged(
    model: PointModel, examples: _Examples, codes: np.ndarray, number: np.ndarray, given: np.ndarray,
    share: np.ndarray,
) -> Outcome:  # fmt: skip
    """What was learned, and how it did on examples that were left out."""
    known = number >= 0
    table = confusion(codes[known], given[known], 2)
    found = scores(table)
    precision, recall, f1 = (float(found[n][0]) for n in ("precision", "recall", "f1"))
    yes = int(examples.is_class.sum())
    findings = (
        *(Finding(d, v, SHARE) for d, v in ((_PRECISION, precision), (_RECALL, recall), (_F1, f1)) if v == v),
        Finding(_EXAMPLES, yes, COUNT),
        Finding(_COUNTER, len(examples.is_class) - yes, COUNT),
        Finding(_POINTS, len(examples.rows), COUNT),
    )
    weak = not (precision >= _APART and recall >= _APART)
    warnings = (
        ("The measures do not tell the class apart well: give more examples and counter-examples.",)
        if weak
        else ()
    )
    names = [c.name for c in model.classes]
    figure = f"found {recall:.0%} of left-out points".replace("%", " %") if recall == recall else "trained"

    def asked(make: Any) -> Any:
        return lambda: Outcome(make(), figure, findings)

    tables = {
        "confusion": lambda: _confusion_table(table, names),
        "by_class": lambda: _class_table(table, found, names),
        "by_example": lambda: _example_table(examples, codes, number, given, share, names),
        "measures": lambda: _measure_table(model),
    }
    return Outcome(model, figure, findings, warnings, beside={n: asked(m) for n, m in tables.items()})


def _confusion_table(table: np.ndarray, names: Sequence[str]) -> Table:
    truth, given = np.divmod(np.arange(table.size), table.shape[1])
    label = np.array(names, object)
    return Table({"was": label[truth], "given": label[given], "points": table.reshape(-1)}, {})


def _class_table(table: np.ndarray, found: Mapping[str, np.ndarray], names: Sequence[str]) -> Table:
    columns = {n: found[n] for n in ("precision", "recall", "f1")}
    return Table(
        {"name": np.array(names, object), "points": table.sum(axis=1), **columns},
        dict.fromkeys(columns, SHARE),
    )


def _example_table(
    examples: _Examples, codes: np.ndarray, number: np.ndarray, given: np.ndarray, share: np.ndarray,
    names: Sequence[str],
) -> Table:  # fmt: skip
    count = len(examples.is_class)
    told = (number >= 0) & (given >= 0)
    points = np.bincount(number[told], minlength=count)
    right = np.bincount(number[told], weights=given[told] == codes[told], minlength=count)
    sure = np.bincount(number[told], weights=share[told], minlength=count)
    with np.errstate(invalid="ignore"):
        columns = {"right_share": right / points, "mean_share": sure / points}
    return Table(
        {
            "number": np.arange(1, count + 1),
            "name": np.array(names, object)[np.where(examples.is_class, 0, 1)],
            "points": np.bincount(examples.number, minlength=count),
            **columns,
        },
        dict.fromkeys(columns, SHARE),
    )


def _measure_table(model: PointModel) -> Table:
    order = np.argsort(-model.arrays["weight"], kind="stable")
    return Table(
        {"measure": np.array(model.measures, object)[order], "contributes": model.arrays["weight"][order]},
        {"contributes": SHARE},
    )


train_class = StepKind(
    kind="train_class",
    example='samples=walls.gpkg name="Dry-stone wall" radii=5,10,20 -o by_class=walls.csv',
    bench="points",
    group="Shapes and objects",
    title="Teach a class",
    question="What looks like these examples?",
    help=(
        "Learns a class of your own from two or more examples and counter-examples, by the shapes "
        "around their "
        "points, and says how well examples are found that it did not learn from."
    ),
    formula=(
        "forest: mean share of the class in the leaves; precision = right / given, recall = right / true, of "
        "examples left out of the training; contributes = share of what all splits gained"
    ),
    words=("machine learning", "train", "random forest", "supervised", "own class", "examples", "samples"),
    inputs=(
        CLOUD,
        InputSpec(
            "samples",
            "shapes",
            "Samples",
            "Shapes on examples; a column example says yes or no.",
            True,
            more=True,
        ),
    ),
    settings=TrainSettings,
    gives="point_model",
    run=_train_class,
    label=lambda s, names: f"{s.name} taught on {names['cloud']}",
    memory=lambda s, inputs: 600.0 * len(as_kind(inputs["cloud"], Cloud)) + 2e8,
    main="Class",
    beside=(
        ResultSpec("by_class", "table", "By class", "Precision, recall and F1 on examples left out."),
        ResultSpec("confusion", "table", "Confusion", "What points of left-out examples were given."),
        ResultSpec("by_example", "table", "By example", "How much of each example the others found."),
        ResultSpec("measures", "table", "Measures", "What each measure contributes."),
    ),
    staple=12,
)


class UseSettings(Settings):
    """Settings of use_class."""

    classes: Codes = setting(
        (), "Classes that may change", "Left out, all but ground, water and noise[[: 1,5]]."
    )
    least: int = setting(
        5,
        "Fewest points",
        "Of a part that hangs together; smaller ones stay what they are.",
        ge=1,
        le=1_000_000_000,
    )


def _use_class(settings: UseSettings, inputs: Inputs, progress: Progress) -> Outcome:
    cloud, model = as_kind(inputs["cloud"], Cloud), as_kind(inputs["model"], PointModel)
    before, own = classes_of(cloud), model.classes[0]
    if "low" not in model.arrays or not np.isfinite(model.arrays["low"]).all():
        raise AskedWronglyError(f"{model.name} is not one class alone.", "Take one that was taught.")
    share = np.full(len(cloud), np.nan, np.float32)
    near = max(model.radii, default=1.0)

    def work(rows: np.ndarray, inner: Progress) -> Sequence[np.ndarray]:
        these = standing(cloud.part(rows), before[rows], settings.classes)
        out = np.full(len(rows), np.nan, np.float32)
        out[these.rows] = own_class(these, model, settings.least, inner)
        return [out]

    by_blocks(cloud, 4.0 * near + 10.0, work, [share], progress)
    known = np.nan_to_num(share, nan=0.0)
    mine = known >= 0.5
    codes = np.where(mine, np.uint8(own.code), before).astype(np.uint8)
    doubtful = (known >= DOUBT[0]) & (known < DOUBT[1])
    made = with_classes(cloud, codes).with_own(own)
    made = replace(
        made, attributes={**made.attributes, "share": share, "doubtful": doubtful.astype(np.uint8)}
    )
    findings = (
        Finding(_IN_CLASS, int(mine.sum()), COUNT),
        Finding(_DOUBTFUL, int(doubtful.sum()), COUNT),
        Finding("share", float(mine.mean()) if len(mine) else 0.0, SHARE),
    )
    warnings = () if mine.any() else (f"No point is {own.name}.",)
    said = f"{int(mine.sum()):,} points of {own.name}".replace(",", " ")
    return Outcome(made, said, findings, warnings)


use_class = StepKind(
    kind="use_class",
    example="model=walls.class.json",
    bench="points",
    group="Shapes and objects",
    title="Find a taught class",
    question="Where else are points of the class?",
    help=(
        "Gives points the class that was taught, in this or another cloud. How sure it is, and which "
        "points are "
        "doubtful, become attributes."
    ),
    formula="class where the mean share within the first radius ≥ 0.5; doubtful where 0.3 ≤ share < 0.7",
    words=("apply", "predict", "classify", "own class", "model", "inference"),
    inputs=(CLOUD, InputSpec("model", "point_model", "Taught class", "What train_class gave, or its file.")),
    settings=UseSettings,
    gives="cloud",
    run=_use_class,
    label=lambda s, names: f"{names['model']} in {names['cloud']}",
    look={"column": "classification"},
    memory=lambda s, inputs: (
        900.0 * min(len(as_kind(inputs["cloud"], Cloud)), 2 * MOST)
        + 30.0 * len(as_kind(inputs["cloud"], Cloud))
    ),
    staple=13,
)
