"""What a part of a page, and the page itself, can be told: name, title, kind of editor, unit and help of
each field.
"""

from __future__ import annotations

from typing import NamedTuple

from moss_step.study.pages import OWN, Page


class Field(NamedTuple):
    """One field of a part."""

    name: str
    title: str
    kind: str
    unit: str
    tip: str


SCALES = (0, 500, 1000, 2500, 5000, 10_000, 25_000, 50_000, 100_000)
SIZE = Field("size", "Letters", "number", "pt", "Size of the letters, in points")
PLACE = (
    Field("x", "Left", "number", "mm", "From the left edge of the paper"),
    Field("y", "Top", "number", "mm", "From the upper edge of the paper"),
    Field("width", "Width", "number", "mm", "Width on the paper"),
    Field("height", "Height", "number", "mm", "Height on the paper"),
)
PLAN = Field("plan", "Of", "plan", "", "The plan of the page that it belongs to")
FIELDS: dict[str, tuple[Field, ...]] = {
    "plan": (
        Field("results", "Shows", "on_plan", "", "Results from the top down; the Key's where none is marked"),
        Field("scale", "Scale", "scale", "", "1 : so many; or as large as it fits"),
        Field("turned", "Turned", "number", "°", "Degrees clockwise"),
        Field("net", "Net", "net", "", "Lines of the grid in metres, or of longitude and latitude"),
        Field("net_step", "Net every", "number", "", "Metres or degrees between its lines; 0 chooses"),
        Field("fine", "Lines", "number", "mm", "What a pixel of the Key is broad on the paper"),
        Field("shading", "Relief shading", "tick", "", "Draw the relief as the plan does"),
    ),
    "overview": (PLAN,),
    "block": (
        Field("results", "Shows", "on_plan", "", "Results that lie on it; the Key's where none is marked"),
        Field("bearing", "Looks toward", "number", "°", "Bearing that one looks in"),
        Field("down", "Down by", "number", "°", "Angle below the level"),
        Field("times", "Heights times", "number", "", "How many times higher than it is"),
    ),
    "section": (
        Field(
            "surfaces",
            "Surfaces",
            "surfaces",
            "",
            "Surfaces that are cut; the shaded ground where none is marked",
        ),
        Field("line", "Line", "line", "", "Where it runs"),
        SIZE,
    ),
    "chart": (Field("result", "Of", "chart", "", "A result with curves"), SIZE),
    "table": (
        Field("result", "Of", "any", "", "The result whose rows, or figures, it shows"),
        Field(
            "columns", "Columns", "columns", "", "Columns in their order; the first ones where none is marked"
        ),
        Field("where", "Only where", "text", "", "A condition such as area_m2 > 5000"),
        Field("by", "Sorted by", "column", "", "The column that its rows are sorted by"),
        Field("down", "Largest first", "tick", "", "Sort from the largest down"),
        Field("rows", "At most rows", "whole", "", "0 shows as many as there is room for"),
        Field("sums", "Sums of", "columns", "", "Columns that are summed below"),
        SIZE,
    ),
    "key": (PLAN, SIZE),
    "scale": (
        PLAN,
        Field("as_bar", "As a bar", "tick", "", "A bar of a round length"),
        Field("as_number", "As a number", "tick", "", "Such as 1:5,000"),
        SIZE,
    ),
    "north": (
        PLAN,
        Field("grid", "Grid north", "tick", "", "Up the lines of the grid"),
        Field("true", "True north", "tick", "", "Toward the pole"),
        Field("magnetic", "Magnetic north", "tick", "", "Where a compass points"),
        Field("year", "In the year", "number", "", "The compass moves; 2025 to 2030"),
        SIZE,
    ),
    "text": (
        Field("text", "Words", "words", "", "Words; fields stand in braces"),
        SIZE,
        Field("bold", "Bold", "tick", "", "Heavy letters"),
        Field("side", "Stands", "side", "", "At which side its lines stand"),
    ),
    "picture": (Field("file", "File", "file", "", "A picture: PNG, JPEG or TIFF"),),
    "lineage": (
        Field("results", "Of", "results", "", "Results; all that the page draws where none is marked"),
        SIZE,
    ),
    "trail": (
        Field("results", "Of", "results", "", "Results; all steps of the study where none is marked"),
        SIZE,
    ),
    "frame": (Field("line", "Line", "number", "mm", "How broad its line is"),),
    "title": (
        Field("rows", "Rows", "rows", "", "A line each: word, colon, what it is; fields stand in braces"),
        SIZE,
    ),
}
LOOK: tuple[Field, ...] = (
    Field("rim", "A line around it", "tick", "", "Draw a line around the part"),
    Field("backed", "White behind it", "tick", "", "Cover what lies below"),
    Field("locked", "Locked", "tick", "", "Keep it from being moved (L)"),
)
CHOICES: dict[str, tuple[tuple[str, object], ...]] = {
    "net": (("None", "none"), ("Metres of the grid", "metres"), ("Longitude, latitude", "degrees")),
    "side": (("Left", "left"), ("Middle", "middle"), ("Right", "right")),
    "paper": tuple((p, p) for p in ("A5", "A4", "A3", "A2", "A1", "A0", "Letter", "Own")),
    "lying": (("Lying", True), ("Upright", False)),
}
PAGE_FIELDS: tuple[Field, ...] = (
    Field("name", "Name", "text", "", "Name of the page; {page} in a text"),
    Field("paper", "Paper", "paper", "", "Size of the paper"),
    Field("lying", "Direction", "lying", "", "Lying or upright"),
    Field("margin", "Margin", "number", "mm", "Margin all around"),
    Field("author", "By", "text", "", "Who made the page; {author} in a text"),
    Field("date", "Date", "text", "", "The date that stands on the page; {date} in a text"),
)
OWN_FIELDS: tuple[Field, ...] = (
    Field("own_width", "Own width", "number", "mm", "Width of a paper of its own"),
    Field("own_height", "Own height", "number", "mm", "Height of a paper of its own"),
)
ATLAS_FIELDS: tuple[Field, ...] = (
    Field("atlas_areas", "Atlas of", "areas", "", "A page for each area of a result"),
    Field("atlas_by", "Sorted by", "column", "", "The column that the pages are sorted by"),
    Field(
        "atlas_margin", "Around each", "number", "", "How much larger than an area a plan without a scale is"
    ),
    Field("atlas_marked", "Mark the area", "tick", "", "Draw a line around the area that a page is of"),
)
PLAIN_FIELDS = (
    ("Name of the study", "{study}"), ("Name of the page", "{page}"), ("Number of the page", "{number}"),
    ("How many pages", "{pages}"), ("Date", "{date}"), ("Author", "{author}"),
    ("File of the study", "{file}"), ("Reference system", "{frame}"),
    ("Scale of the first plan", "{scale}"), ("Paper", "{paper}"),
)  # fmt: skip
"""What may stand in a text: what it is, and its field."""
SIZES = {
    "plan": (120.0, 90.0), "block": (90.0, 60.0), "section": (110.0, 45.0), "chart": (110.0, 50.0),
    "table": (110.0, 50.0), "key": (55.0, 70.0), "scale": (50.0, 14.0), "north": (26.0, 34.0),
    "text": (80.0, 12.0), "lineage": (120.0, 40.0), "title": (70.0, 26.0), "overview": (36.0, 28.0),
    "trail": (150.0, 60.0), "frame": (100.0, 70.0), "picture": (50.0, 35.0),
}  # fmt: skip
"""Width and height of a part that is laid on a page, in millimetres."""


def fields_of_page(page: Page) -> tuple[Field, ...]:
    """What a page can be told as it is: its own paper, and more of its atlas, where it has them."""
    paper = PAGE_FIELDS[:3] + (OWN_FIELDS if page.paper == OWN else ()) + PAGE_FIELDS[3:]
    return paper + (ATLAS_FIELDS if page.atlas is not None else ATLAS_FIELDS[:1])
