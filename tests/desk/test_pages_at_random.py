"""Pages of parts and settings at random, such as a study from outside may hold: each is drawn, or refused in words."""

from __future__ import annotations

import random
from pathlib import Path
from typing import Any

import pytest
from pydantic import ValidationError

from moss_step.desk.sheet.output import write_sheets
from moss_step.desk.sheet.press import Wanted
from moss_step.model.errors import MossError
from moss_step.scene.sheet.moment import moment
from moss_step.scene.sheet.sheet import sheets_of
from moss_step.study.engine import Engine
from moss_step.study.pages import PART_TYPES, Atlas, Page, Part
from tests.scene.test_sheet import study_of

NUMBERS = (0, 1e-9, 0.05, 0.5, 1, 3, 7.5, 50, 1000, 1e9, 1e300, -1, -90, 359.9, 1e15, -1e300)
REFS = ("ground", "slope", "classes", "lines", "gone")
WORDS = (
    "",
    "A",
    "{figure classes share of Steep}",
    "{{{}}}",
    "{figure}",
    "x" * 3000,
    "a\nb\n" * 50,
    "{area x}",
    "漢 \U0001f600 \x07",
)
PLACES = (412_010.0, 5_871_900.0, 1e300, -5.0, 0.0, 1e9)


def value(rng: random.Random, kind: str, name: str, annotation: Any) -> Any:
    """A value at random for a field of a part: sensible, at its limit, or far beyond."""
    several = {
        "results": REFS, "surfaces": REFS, "columns": ("elevation", "no"), "sums": ("elevation", "no"), "curves": ("no",),
    }  # fmt: skip
    single = {
        "result": REFS, "where": ("", "elevation > 450", "(((", "x = "), "by": ("", "elevation", "no"), "plan": ("", "p0", "zz"),
        "text": WORDS, "net": ("none", "metres", "degrees"), "side": ("left", "right"), "file": ("", "/etc/passwd", "/gone.png"),
    }  # fmt: skip
    if name in several:
        return tuple(rng.choice(several[name]) for _ in range(rng.randrange(3)))
    if name in single:
        return rng.choice(single[name])
    if name == "centre":
        return rng.choice((None, (rng.choice(PLACES), rng.choice(PLACES))))
    if name == "line":
        if kind == "frame":
            return rng.choice(NUMBERS)
        return tuple((rng.choice(PLACES), rng.choice(PLACES)) for _ in range(rng.randrange(4)))
    if name == "rows":
        return (("A", "{study}"), ("B", "{no}")) if kind == "title" else rng.choice((0, 3, 9999))
    return rng.random() < 0.5 if annotation is bool else rng.choice(NUMBERS)


def part(rng: random.Random, number: int) -> Part:
    """A part at random; what its model refuses is left out."""
    kind = rng.choice([k for k in PART_TYPES if k != "block"])
    fields = PART_TYPES[kind].model_fields
    given = {n: value(rng, kind, n, f.annotation) for n, f in fields.items() if rng.random() > 0.35} | {
        "id": f"p{number}"
    }
    given.pop("kind", None)
    while True:
        try:
            return PART_TYPES[kind].model_validate(given)
        except ValidationError as error:
            for one in error.errors():
                given.pop(str(one["loc"][0]), None)


@pytest.mark.usefixtures("qapp")
@pytest.mark.parametrize("seed", range(4))
def test_a_page_at_random_is_drawn_or_refused_in_words(hills_tif: Path, tmp_path: Path, seed: int) -> None:
    rng, engine, study = random.Random(seed), Engine(), study_of(hills_tif)
    drawn = 0
    for _ in range(60):
        sides = (rng.choice((20, 100, 500)), rng.choice((20, 100, 500)))
        atlas = rng.choice((None, None, None, Atlas(areas="lines"), Atlas(areas="gone")))
        page = Page(
            name="P",
            parts=[part(rng, k) for k in range(rng.randrange(1, 6))],
            paper="Own",
            own=sides,
            atlas=atlas,
        )
        target = tmp_path / rng.choice(("p.pdf", "p.svg", "p.png"))
        try:
            write_sheets(sheets_of(moment(engine, study, page), page), target, Wanted(40))
            drawn += 1
        except MossError as error:
            assert "atlas" in str(error).lower()
    assert drawn > 25
