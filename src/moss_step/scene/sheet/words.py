"""Fields in the words of a page: filled in from the study as it is now, never from what it was."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass

from moss_step.model.findings import Finding
from moss_step.model.telling import finding_text
from moss_step.scene.sheet.sheet import Sheet
from moss_step.scene.tables import cell_text

_FIELD = re.compile(r"\{([^{}\n]{1,300})\}")
GONE, WAITS, FAILED = "[removed]", "[not worked out]", "[failed]"
"""What stands where a figure has none: an old number never does."""


@dataclass(frozen=True)
class Piece:
    """A piece of a text: words, or what a field was filled with, and the result that it is of."""

    text: str
    ref: str = ""
    lost: bool = False


def pieces(sheet: Sheet, text: str, scale: float = 0.0) -> list[Piece]:
    """A text in pieces, its fields filled in; ``scale`` is that of the plan which the text belongs to."""
    return list(_pieces(sheet, text, scale))


def filled(sheet: Sheet, text: str, scale: float = 0.0) -> str:
    """A text with its fields filled in."""
    return "".join(p.text for p in _pieces(sheet, text, scale))


def _pieces(sheet: Sheet, text: str, scale: float) -> Iterator[Piece]:
    at = 0
    for match in _FIELD.finditer(text):
        if match.start() > at:
            yield Piece(text[at : match.start()])
        yield _filled(sheet, match[1].strip(), scale) or Piece(match[0])
        at = match.end()
    if at < len(text):
        yield Piece(text[at:])


def _filled(sheet: Sheet, field: str, scale: float) -> Piece | None:
    """What a field is filled with; None for braces that are no field."""
    page, study, frame = sheet.page, sheet.now.study, sheet.now.frame
    plain = {
        "study": study.name,
        "page": page.name,
        "number": str(sheet.number),
        "pages": str(sheet.count),
        "date": page.date,
        "author": page.author,
        "file": sheet.file,
        "frame": "no frame" if frame is None else frame.system_name,
        "scale": scale_text(scale),
        "paper": f"{page.paper}, {page.size[0]:g} × {page.size[1]:g} mm",
    }
    if field in plain:
        return Piece(plain[field])
    word, _, rest = field.partition(" ")
    if word == "area" and sheet.page.atlas is not None:
        return _of_area(sheet, rest.strip())
    if word in ("name", "headline", "figure") and rest:
        return _of_result(sheet, word, *rest.split(" ", 1))
    return None


def scale_text(scale: float) -> str:
    """A scale as a ratio; empty for none."""
    if scale <= 0:
        return ""
    return f"1:{scale:,.0f}" if scale >= 1000 else f"1:{scale:.4g}"


def _of_area(sheet: Sheet, column: str) -> Piece:
    area, ref = sheet.area, sheet.page.atlas.areas if sheet.page.atlas is not None else ""
    if area is None:
        return Piece(f"[{column or 'area'}]", ref)
    if not column:
        return Piece(area.name, ref)
    if column not in area.columns:
        return Piece(f"{GONE[:-1]}: {column}]", ref, lost=True)
    factor, symbol = sheet.now.study.telling.column(area.symbols.get(column, ""))
    value = area.columns[column]
    text = cell_text(value * factor if factor != 1.0 else value, symbol)
    return Piece(f"{text}{'' if symbol in ('', '°', '%') else ' '}{symbol}", ref)


def _of_result(sheet: Sheet, word: str, ref: str, finding: str = "") -> Piece:
    now = sheet.now
    if not now.study.has(ref):
        return Piece(GONE, ref, lost=True)
    if word == "name":
        return Piece(now.study.name_of(ref), ref)
    said = now.said.get(ref)
    if said is None:
        return Piece(FAILED if ref in now.failures else WAITS, ref, lost=True)
    if word == "headline":
        return Piece(now.study.telling.figure(said.figure), ref)
    name, _, of = finding.partition(" of ")
    found = next((f for f in said.findings if f.name == name.strip() and f.of == of.strip()), None)
    if found is None:
        return Piece(GONE, ref, lost=True)
    return Piece(finding_text(found, now.study.telling), ref)


def field_of(ref: str, finding: Finding) -> str:
    """The field that is filled with a finding."""
    return f"{{figure {ref} {finding.name}{f' of {finding.of}' if finding.of else ''}}}"


def figures_in(text: str) -> list[str]:
    """Results whose figures a text asks for."""
    words = [m[1].split() for m in _FIELD.finditer(text)]
    return [w[1] for w in words if len(w) > 1 and w[0] in ("name", "headline", "figure")]
