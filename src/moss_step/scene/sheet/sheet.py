"""One page as it is printed: a moment of the work, the page, its place among others, and its area."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.frame import Box
from moss_step.model.shapes import Shapes
from moss_step.scene.snapshot import Snapshot
from moss_step.study.pages import Page

Digest = Callable[[str], str | None]
MOST_SHEETS = 2_000
"""Most pages of an atlas: more is a mistake rather than a book."""


def _unknown(_: str) -> str | None:
    return None


@dataclass(frozen=True)
class Area:
    """The area that a page of an atlas is of: its place among the rows, its name, box and columns; the box
    is in the system of the plan.
    """

    row: int
    name: str
    box: Box
    geometry: Any
    columns: Mapping[str, Any] = field(default_factory=dict)
    symbols: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True, eq=False)
class Sheet:
    """A page to be drawn; ``number`` of ``count`` pages, of a study ``file``."""

    now: Snapshot
    page: Page
    number: int = 1
    count: int = 1
    file: str = ""
    area: Area | None = None
    digest: Digest = _unknown
    """Gives the digest of a source file, where it was looked at."""


def sheets_of(now: Snapshot, page: Page, file: str = "", digest: Digest = _unknown) -> list[Sheet]:
    """The sheets that a page makes: one, or one for each area of its atlas.

    Raises MossError when the areas of the atlas are not there.
    """
    if page.atlas is None:
        return [Sheet(now, page, file=file, digest=digest)]
    areas = list(_areas(now, page))
    return [Sheet(now, page, k, len(areas), file, area, digest) for k, area in enumerate(areas, start=1)]


def _areas(now: Snapshot, page: Page) -> Iterator[Area]:
    atlas = page.atlas
    if atlas is None:
        return
    if not now.study.has(atlas.areas):
        raise MossError(
            f"The atlas '{page.name}' is of a result that the study has no more.", "Choose other areas."
        )
    name = now.study.name_of(atlas.areas)
    picture = now.picture(atlas.areas)
    if picture is None:
        failed = now.failures.get(atlas.areas)
        raise MossError(
            f"'{name}' is not worked out{f': {failed.reason}' if failed else ''}.", "Run the study."
        )
    drawn = picture.placed(now.frame)[0].shapes
    if drawn is None or drawn.value.kind != "areas" or not len(drawn.value):
        raise MossError(f"'{name}' holds no areas.", "An atlas needs some: basins, patches, or drawn ones.")
    shapes: Shapes = drawn.value
    if len(shapes) > MOST_SHEETS:
        raise MossError(
            f"'{name}' has {len(shapes):,} areas, and an atlas at most {MOST_SHEETS:,} pages.",
            "Keep the larger ones first.",
        )
    names, bounds = shapes.names(), np.array([g.bounds for g in shapes.geometry])
    for row in _order(shapes, atlas.by):
        columns = {n: v[row] for n, v in shapes.columns.items()}
        box = tuple(float(v) for v in bounds[row])
        symbols = {n: shapes.symbol(n) for n in shapes.columns}
        title = names[row] or f"Area {row + 1}"
        yield Area(int(row), title, (box[0], box[1], box[2], box[3]), shapes.geometry[row], columns, symbols)


def _order(shapes: Shapes, by: str) -> list[int]:
    if not by:
        return list(range(len(shapes)))
    if by not in shapes.columns:
        raise AskedWronglyError(
            f"The areas have no column '{by}'.", f"They have: {', '.join(shapes.columns)}."
        )
    return [int(k) for k in np.argsort(shapes.columns[by], kind="stable")]
