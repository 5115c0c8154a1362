"""How results came about, in a few lines for a page: a line for each step, with the files it reads and their
digests.
"""

from __future__ import annotations

from moss_step.model.errors import MossError
from moss_step.scene.sheet.sheet import Sheet
from moss_step.steps.declare import extra
from moss_step.study.graph import Step
from moss_step.study.pages import refs_of
from moss_step.study.record import setting_text

DIGITS = 16
"""Digits of a digest that a page shows."""


def trail_lines(sheet: Sheet, refs: tuple[str, ...]) -> list[tuple[str, str, bool]]:
    """Lines of how results came about, or all that the page draws: text, the result that it is of, and
    whether it is a head.
    """
    study = sheet.now.study
    wanted = [r for r in (refs or drawn_by(sheet)) if study.has(r)]
    lines = [(f"[removed]: {r}", "", False) for r in refs if not study.has(r)]
    if not wanted:
        return [*lines, ("Nothing is drawn yet.", "", False)]
    lines.append((f"Lineage · {study.name}", "", True))
    numbers: dict[str, int] = {}
    for number, step in enumerate(study.needs(wanted), start=1):
        numbers[step.id] = number
        lines.append((_line(sheet, step, number, numbers), step.id, False))
    return lines


def drawn_by(sheet: Sheet) -> list[str]:
    """All results that a page shows: what its parts name, and the Key where a plan shows that."""
    study, page = sheet.now.study, sheet.page
    named = page.refs()
    plans = [p for p in page.parts if p.kind in ("plan", "block")]
    if any(not refs_of(p) for p in plans):
        named += [row.step for row in study.key if row.shown]
    return list(dict.fromkeys(named))


def _line(sheet: Sheet, step: Step, number: int, numbers: dict[str, int]) -> str:
    """One step: its number, name, what it is, from which others, and settings that are not usual."""
    declared, study = step.declared, sheet.now.study
    fed = ", ".join(str(numbers.get(ref.partition(".")[0], "?")) for ref in step.inputs.values())
    parts = [f"{number}. {study.name_of(step.id)}", declared.title + (f" of {fed}" if fed else "")]
    try:
        settings = declared.checked(step.settings)
    except MossError as error:  # its card says what is wrong with it, and so does the page
        return " · ".join([*parts, str(error)])
    for name, field in declared.settings.listed().items():
        value = getattr(settings, name)
        if name in declared.file_settings or value == field.get_default(call_default_factory=True):
            continue
        unit = extra(field, "unit")
        parts.append(f"{field.title} {setting_text(value)}{' ' + unit if unit else ''}")
    for file in step.files:
        digest = sheet.digest(file)
        name = file.rsplit("/", 1)[-1]
        parts.append(f"{name} (BLAKE3 {digest[:DIGITS]})" if digest else name)
    if step.id not in sheet.now.said:
        parts.append("failed" if step.id in sheet.now.failures else "not worked out")
    return " · ".join(parts)
