"""Finished layouts to begin a page from: a plan with its key, with a table, two results compared, and figures
with their lineage.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from moss_step.model.findings import Finding
from moss_step.scene.pictures import has_place
from moss_step.scene.sheet.words import field_of
from moss_step.scene.snapshot import Snapshot
from moss_step.scene.tables import column_words
from moss_step.study.graph import Study
from moss_step.study.pages import (
    AnyPart,
    KeyPart,
    LineagePart,
    NorthPart,
    OverviewPart,
    Page,
    PlanPart,
    ScalePart,
    TablePart,
    TextPart,
    TitlePart,
    TrailPart,
    texts_of,
)

_SIDE, _GAP, _HEAD, _FOOT = 62.0, 5.0, 12.0, 24.0
"""Millimetres of the column at the right, between parts, of the title and of the foot."""


@dataclass(frozen=True)
class Layout:
    """A finished layout: its title, what it is for, whether its paper lies, and what lays its parts out on a
    page, of results and the one among them that it is about.
    """

    title: str
    about: str
    lying: bool
    parts: Callable[[Snapshot, Page, tuple[str, ...], str], list[AnyPart]]

    def page(self, now: Snapshot, name: str, refs: tuple[str, ...], subject: str = "") -> Page:
        """A page that is laid out so, with its name as its title."""
        page = Page(name=name, lying=self.lying)
        m, (width, _) = page.margin, page.size
        title = TextPart(
            id="title", x=m, y=m, width=width - 2 * m, height=8.5, text="{page}", size=17, bold=True
        )
        return page.with_parts([title, *self.parts(now, page, refs, subject)])


def _main_of(now: Snapshot, refs: tuple[str, ...], subject: str) -> str:
    """The result that a page is about, or the first one that it shows; empty for none."""
    return next((r for r in (subject, *refs) if now.study.has(r)), "")


def _block_of_titles(x: float, y: float, width: float, height: float) -> TitlePart:
    rows = (
        ("Study", "{study}"),
        ("Frame", "{frame}"),
        ("By", "{author}"),
        ("Date", "{date}"),
        ("Page", "{number} of {pages}"),
    )
    return TitlePart(id="block", x=x, y=y, width=width, height=height, rows=rows, size=7)


def _plan_with_key(now: Snapshot, page: Page, refs: tuple[str, ...], subject: str) -> list[AnyPart]:
    """A plan, and beside it its key, scale, north and title block."""
    width, height = page.size
    m, side = page.margin, _SIDE
    top, bottom, right = m + _HEAD, height - m, width - m - _SIDE
    plan = PlanPart(
        id="plan", x=m, y=top, width=right - m - _GAP, height=bottom - top, results=refs, net="metres"
    )
    return [
        plan,
        KeyPart(id="key", x=right, y=top, width=side, height=bottom - top - 80, plan="plan"),
        ScalePart(id="scale", x=right, y=bottom - 74, width=side - 22, height=14, plan="plan"),
        NorthPart(id="north", x=right + side - 24, y=bottom - 78, width=24, height=34, plan="plan"),
        OverviewPart(id="overview", x=right, y=bottom - 56, width=30, height=24, plan="plan"),
        _block_of_titles(right, bottom - 30, side, 30),
    ]


def _plan_with_table(now: Snapshot, page: Page, refs: tuple[str, ...], subject: str) -> list[AnyPart]:
    """A plan above a table of its first result, with key and scale between."""
    width, height = page.size
    m, side, whole = page.margin, 52.0, page.size[0] - 2 * page.margin
    top, bottom = m + _HEAD, height - m
    share = 0.56 * (bottom - top)
    tabled = _main_of(now, refs, subject)
    return [
        PlanPart(id="plan", x=m, y=top, width=whole - side - _GAP, height=share, results=refs),
        KeyPart(id="key", x=width - m - side, y=top, width=side, height=share - 52, plan="plan"),
        ScalePart(id="scale", x=width - m - side, y=top + share - 48, width=side, height=13, plan="plan"),
        NorthPart(id="north", x=width - m - 26, y=top + share - 32, width=26, height=32, plan="plan"),
        TablePart(
            id="table",
            x=m,
            y=top + share + _GAP,
            width=whole,
            height=bottom - top - share - _FOOT - 2 * _GAP,
            result=tabled,
            size=7.5,
        ),
        _block_of_titles(m, bottom - _FOOT, 80, _FOOT),
        LineagePart(
            id="lineage",
            x=m + 85,
            y=bottom - _FOOT,
            width=whole - 85,
            height=_FOOT,
            results=(tabled,) if tabled else (),
            size=5.5,
        ),
    ]


def _two_compared(now: Snapshot, page: Page, refs: tuple[str, ...], subject: str) -> list[AnyPart]:
    """Two results on the same part of the ground, side by side at one scale, each with its key below."""
    width, height = page.size
    m, half = page.margin, (page.size[0] - 2 * page.margin - _GAP) / 2
    top, bottom, below = m + _HEAD, height - m, 56.0
    covering = _two(now, (subject, *refs))
    parts: list[AnyPart] = []
    for k, ref in enumerate(covering):
        x = m + k * (half + _GAP)
        word = f"{{name {ref}}}" if ref else "Choose a result"
        parts += [
            TextPart(id=f"head-{k + 1}", x=x, y=top, width=half, height=6, text=word, size=10, bold=True),
            PlanPart(
                id=f"plan-{k + 1}",
                x=x,
                y=top + 7,
                width=half,
                height=bottom - top - below - 7,
                results=(ref,) if ref else (),
            ),
            KeyPart(
                id=f"key-{k + 1}",
                x=x,
                y=bottom - below + 3,
                width=half - 40,
                height=below - 3,
                plan=f"plan-{k + 1}",
                size=7,
            ),
        ]
    parts += [
        ScalePart(
            id="scale", x=m + half - 36, y=bottom - below + 4, width=36, height=13, plan="plan-1", size=7
        ),
        NorthPart(id="north", x=m + half - 28, y=bottom - below + 19, width=24, height=30, plan="plan-1"),
        _block_of_titles(width - m - 56, bottom - 26, 56, 26),
    ]
    return parts


def _figures_with_lineage(now: Snapshot, page: Page, refs: tuple[str, ...], subject: str) -> list[AnyPart]:
    """The figures of results as a table and in words, a small plan, and how they came about."""
    width, height = page.size
    m, whole = page.margin, page.size[0] - 2 * page.margin
    top, bottom = m + _HEAD, height - m
    ref = _main_of(now, refs, subject)
    said = now.said.get(ref)
    words = ["{name " + ref + "}: {headline " + ref + "}."] if ref else ["Choose a result."]
    words += [f"{_title_of(f)}: {field_of(ref, f)}" for f in _telling(said.findings if said else ())]
    return [
        TextPart(id="words", x=m, y=top, width=whole * 0.48, height=84, text="\n".join(words), size=9),
        PlanPart(id="plan", x=m + whole * 0.5, y=top, width=whole * 0.5, height=70, results=refs),
        ScalePart(id="scale", x=m + whole * 0.5, y=top + 72, width=60, height=13, plan="plan", size=7),
        TablePart(id="table", x=m, y=top + 90, width=whole, height=58, result=ref, size=7.5),
        LineagePart(
            id="lineage", x=m, y=top + 154, width=whole, height=bottom - top - 154 - _FOOT - _GAP, size=7
        ),
        _block_of_titles(width - m - 90, bottom - _FOOT, 90, _FOOT),
    ]


def trail_page(study: Study, refs: tuple[str, ...]) -> Page:
    """A page that holds the trail alone, as large as it needs."""
    steps = study.needs(refs or [s.id for s in study.steps])
    name = study.name_of(refs[0]) if refs else study.name
    width, height = (
        (277.0, 190.0) if len(steps) < 14 else (400.0, 277.0) if len(steps) < 40 else (821.0, 574.0)
    )
    trail = TrailPart(id="trail", x=10, y=22, width=width, height=height - 12, results=refs, size=10)
    title = TextPart(id="title", x=10, y=9, width=width, height=9, text="{page}", size=15, bold=True)
    size = (width + 20, height + 20)
    return Page(name=f"Trail of {name}"[:80], paper="Own", own=size, parts=(title, trail))


_FIRST = ("area_m2", "mean_slope_deg", "longest_path_m", "volume_m3", "depth_m", "relief", "perimeter_m")
_MOST_WORDS, _MOST_FIGURES = 6, 14


def told_by_area(page: Page, columns: Mapping[str, np.ndarray], symbols: Mapping[str, str]) -> Page:
    """The page of an atlas with the name and the main figures of its area, where no text of it tells any
    yet.
    """
    if any("{area" in text for p in page.parts for text in texts_of(p)):
        return page
    titles = [p.id for p in page.parts if p.kind == "text" and p.text == "{page}"]
    page = page.changing(titles, lambda p: p.model_copy(update={"text": "{page}: {area}"}))
    numbers = [n for n in columns if columns[n].dtype.kind in "iuf" and symbols.get(n)]
    told = [*(n for n in _FIRST if n in numbers), *(n for n in numbers if n not in _FIRST)][:_MOST_WORDS]
    lines = [f"{column_words(n, symbols[n]).rpartition(',')[0]}: {{area {n}}}" for n in told]
    plan = page.plan()
    x, y = (plan.x + 3, plan.y + 3) if plan is not None else (page.margin, page.margin)
    size = 9.0
    words = TextPart(
        id=page.fresh_id("text"), x=x, y=y, width=62, height=round((len(lines) + 1) * size * 0.4516 + 1, 1),
        text="\n".join(["{area}", *lines]), size=size, backed=True,
    )  # fmt: skip
    return page.adding(words)


def _telling(findings: Sequence[Finding]) -> list[Finding]:
    """The findings that say most: of the whole by their rank, of classes and zones their areas and shares."""
    whole = sorted((f for f in findings if not f.of), key=lambda f: f.rank)
    parts = [f for f in findings if f.of and f.unit.kind in ("area", "share", "volume")]
    return [*whole, *parts][:_MOST_FIGURES]


def _title_of(finding: Finding) -> str:
    return f"{finding.title}, {finding.of}" if finding.of else finding.title


def _two(now: Snapshot, refs: tuple[str, ...]) -> tuple[str, str]:
    """Two results that cover the ground: those that are wanted first."""
    held = [r for r in dict.fromkeys(refs) if now.study.has(r) and r in now.coverings]
    held += [r for r in reversed(now.coverings) if r not in held]
    return (held[0] if held else "", held[1] if len(held) > 1 else "")


LAYOUTS = {
    "plan_key": Layout(
        "Plan with key", "A plan, its key, scale, north and title block", True, _plan_with_key
    ),
    "plan_table": Layout(
        "Plan with table", "A plan above the rows of its first result, with lineage", False, _plan_with_table
    ),
    "compared": Layout(
        "Two compared", "Two results of the same ground, side by side at one scale", True, _two_compared
    ),
    "figures": Layout(
        "Figures with lineage",
        "Figures in words and rows, a small plan, and how they came about",
        False,
        _figures_with_lineage,
    ),
}
"""Layouts by key."""


def usual_refs(study: Study, chosen: str) -> tuple[str, ...]:
    """Results that a new page shows: the chosen one over the shapes of the Key, or all of the Key where
    none is chosen.
    """
    if not chosen or not study.has(chosen) or not has_place(study, chosen):
        return ()
    shown = [k.step for k in study.key if k.shown and k.step != chosen]
    over = [ref for ref in shown if study.result(ref).gives == "shapes"]
    if study.result(chosen).gives == "shapes":
        return (chosen, *over, *[ref for ref in shown if ref not in over][:1])
    return (*over, chosen)
