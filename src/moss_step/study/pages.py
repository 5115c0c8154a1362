"""Pages of a study: paper, and the parts that lie on it. All places and sizes are millimetres from the
upper left corner of the paper; letters are measured in points.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Annotated, Any, Literal

from pydantic import (
    AfterValidator,
    BaseModel,
    ConfigDict,
    Field,
    SerializerFunctionWrapHandler,
    TypeAdapter,
    field_validator,
    model_serializer,
)

_FROZEN = ConfigDict(frozen=True, extra="forbid", allow_inf_nan=False)
PAPERS: dict[str, tuple[float, float]] = {
    "A0": (841.0, 1189.0),
    "A1": (594.0, 841.0),
    "A2": (420.0, 594.0),
    "A3": (297.0, 420.0),
    "A4": (210.0, 297.0),
    "A5": (148.0, 210.0),
    "Letter": (215.9, 279.4),
}
"""Width and height upright in millimetres: ISO 216, and ANSI/ASME Y14.1 A."""
OWN = "Own"
_OF_ATLAS = "atlas_"
MOST_PAGES, MOST_PARTS, MOST_MM = 200, 500, 2000.0
LEAST_MM = 2.0
Mm = Annotated[float, Field(ge=-MOST_MM, le=MOST_MM)]
Size = Annotated[float, Field(ge=LEAST_MM, le=MOST_MM)]
Coordinate = Annotated[float, Field(ge=-1e9, le=1e9)]
"""No system of coordinates reaches farther."""

Points = Annotated[float, Field(ge=3.0, le=200.0)]


def _scale(value: float) -> float:
    """Refuse what is larger than life: no ground is drawn so."""
    if 0.0 < value < 1.0:
        raise ValueError("a scale is 1:1 or smaller, or 0 for as large as it fits")
    return value


Scale = Annotated[float, Field(ge=0.0, le=1e9), AfterValidator(_scale)]
"""1 : so many; 0 for as large as it fits."""


class Part(BaseModel):
    """What lies on a page: its place, and whether it is kept from being moved; ``rim`` draws a line around
    it, and ``backed`` lays paper under it.
    """

    model_config = _FROZEN
    kind: str
    id: str = Field(pattern=r"^[A-Za-z0-9_-]{1,40}$")
    x: Mm = 0.0
    y: Mm = 0.0
    width: Size = 60.0
    height: Size = 40.0
    locked: bool = False
    rim: bool = False
    backed: bool = False

    @model_serializer(mode="wrap")
    def _with_kind(self, handler: SerializerFunctionWrapHandler) -> dict[str, Any]:
        """What it is is always written, or it could not be read again."""
        return {"kind": self.kind, **handler(self)}

    @property
    def right(self) -> float:
        """Its right edge."""
        return self.x + self.width

    @property
    def bottom(self) -> float:
        """Its lower edge."""
        return self.y + self.height

    def holds(self, x: float, y: float) -> bool:
        """Whether a place of the page lies on it."""
        return self.x <= x <= self.right and self.y <= y <= self.bottom


class PlanPart(Part):
    """The ground from above. ``results`` from the top down, or the Key's where there are none; a ``scale``
    of 0 shows all of it. ``turned`` degrees clockwise. A pixel of the Key is ``fine`` millimetres broad.
    """

    kind: Literal["plan"] = "plan"
    results: tuple[str, ...] = ()
    shading: bool = True
    scale: Scale = 0.0
    centre: tuple[Coordinate, Coordinate] | None = None
    turned: float = Field(0.0, ge=-360.0, le=360.0)
    fine: float = Field(0.22, ge=0.05, le=2.0)
    net: Literal["none", "metres", "degrees"] = "none"
    net_step: float = Field(0.0, ge=0.0, le=1e7)
    rim: bool = True


class OverviewPart(Part):
    """All of the ground, small, with the box that a plan of the page shows."""

    kind: Literal["overview"] = "overview"
    plan: str = ""
    rim: bool = True
    backed: bool = True


class BlockPart(Part):
    """The ground in three dimensions: looked at along a ``bearing``, ``down`` from the level, ``times`` as
    high.
    """

    kind: Literal["block"] = "block"
    results: tuple[str, ...] = ()
    bearing: float = Field(0.0, ge=-360.0, le=360.0)
    down: float = Field(35.0, ge=3.0, le=90.0)
    times: float = Field(1.5, gt=0.0, le=100.0)


class SectionPart(Part):
    """Surfaces along a line, from its start to its end."""

    kind: Literal["section"] = "section"
    surfaces: tuple[str, ...] = ()
    line: tuple[tuple[Coordinate, Coordinate], ...] = Field((), max_length=1000)
    size: Points = 7.0


class ChartPart(Part):
    """Curves of a chart; all of them where none is named."""

    kind: Literal["chart"] = "chart"
    result: str = ""
    curves: tuple[str, ...] = ()
    size: Points = 7.0


class TablePart(Part):
    """Rows of a result: some ``columns``, at most so many ``rows`` by a column, and ``sums`` below."""

    kind: Literal["table"] = "table"
    result: str = ""
    columns: tuple[str, ...] = ()
    rows: int = Field(0, ge=0, le=10_000)
    where: str = ""
    by: str = ""
    down: bool = False
    sums: tuple[str, ...] = ()
    size: Points = 8.0


class KeyPart(Part):
    """What a plan of the page draws."""

    kind: Literal["key"] = "key"
    plan: str = ""
    size: Points = 8.0


class ScalePart(Part):
    """The scale of a plan: as a bar, as a number, or both."""

    kind: Literal["scale"] = "scale"
    plan: str = ""
    as_bar: bool = True
    as_number: bool = True
    size: Points = 8.0


class NorthPart(Part):
    """Where north is on a plan: of its grid, the true one, and the magnetic one in a ``year``."""

    kind: Literal["north"] = "north"
    plan: str = ""
    grid: bool = True
    true: bool = True
    magnetic: bool = False
    year: float = Field(2026.0, ge=2025.0, lt=2030.0)
    size: Points = 7.0


class TextPart(Part):
    """Words, with fields in braces that are filled in."""

    kind: Literal["text"] = "text"
    text: str = Field("Text", max_length=20_000)
    size: Points = 10.0
    bold: bool = False
    side: Literal["left", "middle", "right"] = "left"


class PicturePart(Part):
    """A picture from a file."""

    kind: Literal["picture"] = "picture"
    file: str = ""


class LineagePart(Part):
    """How results came about; of all that the page draws where none is named."""

    kind: Literal["lineage"] = "lineage"
    results: tuple[str, ...] = ()
    size: Points = 6.5


class TrailPart(Part):
    """Steps as boxes with what feeds what: those that results came from, or all of the study where none is
    named.
    """

    kind: Literal["trail"] = "trail"
    results: tuple[str, ...] = ()
    size: Points = 7.0


class FramePart(Part):
    """A line around a part of the page."""

    kind: Literal["frame"] = "frame"
    line: float = Field(0.35, ge=0.05, le=5.0)


class TitlePart(Part):
    """A title block: rows of a word and what it is, which may hold fields."""

    kind: Literal["title"] = "title"
    rows: tuple[tuple[str, str], ...] = ()
    size: Points = 8.0
    rim: bool = True
    backed: bool = True


AnyPart = Annotated[
    PlanPart
    | OverviewPart
    | BlockPart
    | SectionPart
    | ChartPart
    | TablePart
    | KeyPart
    | ScalePart
    | NorthPart
    | TextPart
    | PicturePart
    | LineagePart
    | TrailPart
    | FramePart
    | TitlePart,
    Field(discriminator="kind"),
]
_PARTS: TypeAdapter[AnyPart] = TypeAdapter(AnyPart)
PART_TYPES: dict[str, type[Part]] = {
    t.model_fields["kind"].default: t
    for t in (
        PlanPart, OverviewPart, BlockPart, SectionPart, ChartPart, TablePart, KeyPart, ScalePart, NorthPart,
        TextPart, PicturePart, LineagePart, TrailPart, FramePart, TitlePart,
    )
}  # fmt: skip
PART_NAMES = {
    "plan": "Plan", "overview": "Overview", "block": "Block", "section": "Section", "chart": "Chart",
    "table": "Table", "key": "Key", "scale": "Scale", "north": "North", "text": "Text", "picture": "Picture",
    "lineage": "Lineage", "trail": "Trail", "frame": "Frame", "title": "Title block",
}  # fmt: skip


class Atlas(BaseModel):
    """A page for each area of a result: its plan shows that area, by ``margin`` of its size larger, at the
    plan's own scale or, where that is 0, as large as it fits. Sorted by a column.
    """

    model_config = _FROZEN
    areas: str
    by: str = ""
    margin: float = Field(0.1, ge=0.0, le=2.0)
    marked: bool = True


class Page(BaseModel):
    """One page: its paper, and its parts from the lowest up."""

    model_config = _FROZEN
    name: str = Field(min_length=1, max_length=80)
    paper: Literal["A0", "A1", "A2", "A3", "A4", "A5", "Letter", "Own"] = "A4"
    lying: bool = True
    own: tuple[Annotated[float, Field(ge=20, le=MOST_MM)], Annotated[float, Field(ge=20, le=MOST_MM)]] = (
        297.0,
        210.0,
    )
    margin: float = Field(10.0, ge=0.0, le=200.0)
    author: str = Field("", max_length=200)
    date: str = Field("", max_length=40)
    parts: tuple[AnyPart, ...] = Field((), max_length=MOST_PARTS)
    atlas: Atlas | None = None

    @field_validator("parts")
    @classmethod
    def _each_once(cls, parts: tuple[AnyPart, ...]) -> tuple[AnyPart, ...]:
        ids = [p.id for p in parts]
        twice = next((i for i in ids if ids.count(i) > 1), "") if len(set(ids)) < len(ids) else ""
        if twice:
            raise ValueError(f"two parts are called '{twice}'")
        return parts

    @property
    def size(self) -> tuple[float, float]:
        """Width and height of the paper."""
        if self.paper == OWN:
            return self.own
        short, long = PAPERS[self.paper]
        return (long, short) if self.lying else (short, long)

    def part(self, part_id: str) -> AnyPart | None:
        """The part of an id, where there is one."""
        return next((p for p in self.parts if p.id == part_id), None)

    def plan(self, part_id: str = "") -> PlanPart | None:
        """The plan of an id, or the first one."""
        plans = [p for p in self.parts if isinstance(p, PlanPart)]
        return next((p for p in plans if p.id == part_id), plans[0] if plans else None)

    def fresh_id(self, kind: str) -> str:
        """An id that no part has yet."""
        taken = {p.id for p in self.parts}
        return next(i for i in (f"{kind}-{n}" for n in range(1, len(taken) + 2)) if i not in taken)

    def with_parts(self, parts: Iterable[AnyPart]) -> Page:
        """The page with other parts."""
        return self.model_copy(update={"parts": tuple(parts)})

    def adding(self, part: AnyPart) -> Page:
        """The page with one more part on top."""
        return self.with_parts((*self.parts, part))

    def changing(self, ids: Iterable[str], change: Callable[[AnyPart], AnyPart]) -> Page:
        """The page with some parts changed."""
        wanted = set(ids)
        return self.with_parts(change(p) if p.id in wanted else p for p in self.parts)

    def removing(self, ids: Iterable[str]) -> Page:
        """The page without some parts."""
        gone = set(ids)
        return self.with_parts(p for p in self.parts if p.id not in gone)

    @property
    def pictures(self) -> list[str]:
        """Files of its pictures."""
        return [p.file for p in self.parts if isinstance(p, PicturePart) and p.file]

    def refs(self) -> list[str]:
        """Results that its parts name, each once."""
        named: list[str] = [self.atlas.areas] if self.atlas is not None else []
        for part in self.parts:
            named += refs_of(part)
        return list(dict.fromkeys(filter(None, named)))


def refs_of(part: Part) -> list[str]:
    """Results that a part names."""
    single = getattr(part, "result", "")
    several = (*getattr(part, "results", ()), *getattr(part, "surfaces", ()))
    return [r for r in (single, *several) if r]


def texts_of(part: AnyPart) -> tuple[str, ...]:
    """Words of a part in which fields may stand."""
    if part.kind == "text":
        return (part.text,)
    return tuple(text for _, text in part.rows) if part.kind == "title" else ()


def changed(part: AnyPart, **values: Any) -> AnyPart:
    """A part with other values, checked. Raises ValidationError for what it does not take."""
    result: AnyPart = type(part).model_validate({**part.model_dump(), **values})
    return result


def made(kind: str, **values: Any) -> AnyPart:
    """A part of a kind. Raises ValidationError for what it does not take."""
    result: AnyPart = _PARTS.validate_python({"kind": kind, **values})
    return result


def page_values(page: Page) -> dict[str, Any]:
    """All that a page can be told, its own paper and its atlas among it, by names."""
    atlas, (width, height) = page.atlas or Atlas(areas=""), page.own
    of_atlas = {f"{_OF_ATLAS}{name}": value for name, value in atlas}
    return {**dict(page), "own_width": width, "own_height": height, **of_atlas}


def page_telling(page: Page, name: str, value: Any) -> Page:
    """A page with another value, by the names of ``page_values``. Raises ValidationError for what it does not
    take.
    """
    given, held = page.model_dump(), {**page_values(page), name: value}
    given[name] = value
    if name.startswith(_OF_ATLAS):
        atlas = {n.removeprefix(_OF_ATLAS): v for n, v in held.items() if n.startswith(_OF_ATLAS)}
        given["atlas"] = atlas if atlas["areas"] else None
    given["own"] = (held["own_width"], held["own_height"])
    return Page.model_validate({n: v for n, v in given.items() if n in Page.model_fields})


# --- putting parts in order

SIDES = ("left", "right", "top", "bottom", "across", "down")


def aligned(parts: list[AnyPart], side: str) -> dict[str, tuple[float, float]]:
    """Upper left corners, by id, of parts that are brought to one side or middle of them all."""
    left, right = min(p.x for p in parts), max(p.right for p in parts)
    top, bottom = min(p.y for p in parts), max(p.bottom for p in parts)
    places: dict[str, Callable[[AnyPart], tuple[float, float]]] = {
        "left": lambda p: (left, p.y),
        "right": lambda p: (right - p.width, p.y),
        "top": lambda p: (p.x, top),
        "bottom": lambda p: (p.x, bottom - p.height),
        "across": lambda p: ((left + right - p.width) / 2, p.y),
        "down": lambda p: (p.x, (top + bottom - p.height) / 2),
    }
    return {p.id: places[side](p) for p in parts if not p.locked}


def reordered(page: Page, ids: Iterable[str], up: bool) -> Page:
    """The page with some parts one place higher, or lower."""
    parts, wanted = list(page.parts), set(ids)
    places = range(len(parts) - 2, -1, -1) if up else range(1, len(parts))
    for k in places:
        other = k + 1 if up else k - 1
        if parts[k].id in wanted and parts[other].id not in wanted:
            parts[k], parts[other] = parts[other], parts[k]
    return page.with_parts(parts)


def snapped(
    page: Page, moved: Iterable[str], left: float, right: float, within: float, upright: bool = False
) -> tuple[float, float | None]:
    """By how much a span is moved so that one of its ends or its middle meets a guide, and where that guide
    is.

    Guides are the margins, the middle of the page, and edges and middles of the parts that are not moved.
    The span runs across, or down where it is ``upright``.
    """
    size, still = page.size[1 if upright else 0], [p for p in page.parts if p.id not in set(moved)]
    guides = [page.margin, size - page.margin, size / 2]
    for part in still:
        low, high = (part.y, part.bottom) if upright else (part.x, part.right)
        guides += [low, high, (low + high) / 2]
    ways = [(g - at, g) for g in guides for at in (left, right, (left + right) / 2)]
    best = min(ways, key=lambda w: abs(w[0]), default=(0.0, 0.0))
    return best if within > 0 and abs(best[0]) <= within else (0.0, None)


Guide = tuple[bool, float]
"""A guide that was met: whether it lies across the page, at a height, and where it is."""
HANDLES = [(0.0, 0.0), (0.5, 0.0), (1.0, 0.0), (1.0, 0.5), (1.0, 1.0), (0.5, 1.0), (0.0, 1.0), (0.0, 0.5)]
"""Places of a part that it is pulled by, in shares of its width and height."""


def moved_by(
    page: Page, parts: list[AnyPart], by: tuple[float, float], within: float
) -> tuple[dict[str, AnyPart], list[Guide]]:
    """Parts that are moved together, to the guides that they come near to; and those guides."""
    ids, (dx, dy) = [p.id for p in parts], by
    left, right = min(p.x for p in parts) + dx, max(p.right for p in parts) + dx
    top, bottom = min(p.y for p in parts) + dy, max(p.bottom for p in parts) + dy
    more_x, x = snapped(page, ids, left, right, within)
    more_y, y = snapped(page, ids, top, bottom, within, upright=True)
    dx, dy = dx + more_x, dy + more_y
    moved = {p.id: p.model_copy(update={"x": round(p.x + dx, 2), "y": round(p.y + dy, 2)}) for p in parts}
    return moved, [(upright, at) for upright, at in ((False, x), (True, y)) if at is not None]


def resized_by(
    page: Page, part: AnyPart, handle: tuple[float, float], by: tuple[float, float], within: float
) -> tuple[AnyPart, list[Guide]]:
    """A part that is pulled by a handle, its edges to the guides that they come near to; and those guides."""
    guides: list[Guide] = []

    def edge(at: float, upright: bool) -> float:
        more, guide = snapped(page, [part.id], at, at, within, upright)
        if guide is not None:
            guides.append((upright, guide))
        return at + more

    (u, v), left, top, right, bottom = handle, part.x, part.y, part.right, part.bottom
    if u == 0.0:
        left = min(edge(left + by[0], False), right - LEAST_MM)
    elif u == 1.0:
        right = max(edge(right + by[0], False), left + LEAST_MM)
    if v == 0.0:
        top = min(edge(top + by[1], True), bottom - LEAST_MM)
    elif v == 1.0:
        bottom = max(edge(bottom + by[1], True), top + LEAST_MM)
    place = {"x": left, "y": top, "width": right - left, "height": bottom - top}
    return part.model_copy(update={n: round(w, 2) for n, w in place.items()}), guides
