"""Study files: readable JSON with a version and relative paths, written whole or not at all."""

from __future__ import annotations

import json
import os
from collections.abc import Callable
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from moss_step.formats.whole import read_text, write_text
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.nearest import meant
from moss_step.steps.catalogue import catalogue, is_step
from moss_step.study.graph import KeyRow, Shading, Step, Study
from moss_step.study.older import in_new_words
from moss_step.study.pages import Page

ENDING = ".moss"
VERSION, WITHOUT_PAGES = 3, 2
"""Raised when an older program could not read what is written: 2 since a step may give several results, 3
since a study may have pages; one without is still written as it was.
"""
MOST_STEPS, MOST_PINS = 5_000, 10_000
MARK = "moss_step_study"


def save_study(study: Study, path: Path) -> None:
    """Write a study; source paths become relative to its folder."""
    folder = path.resolve().parent
    write_text(
        path, json.dumps(as_data(with_paths(study, lambda p: os.path.relpath(p, folder))), indent=1) + "\n"
    )


def load_study(path: Path) -> Study:
    """Read a study; source paths become absolute. Runs nothing.

    Raises MossError when the file is damaged, of a newer version or no study; the file is left as it is.
    """
    text = read_text(path)
    try:
        data = json.loads(text)
    except (ValueError, RecursionError) as error:
        raise MossError(
            f"{path} is damaged or no study: {error}.", "It was left as it is. Look for a copy."
        ) from error
    folder = path.resolve().parent
    return with_paths(from_data(data, path), lambda p: os.path.normpath(folder / p))


def as_data(study: Study) -> dict[str, Any]:
    """Give a study as plain data."""
    version = VERSION if study.pages else WITHOUT_PAGES
    return {MARK: version, **study.model_dump(mode="json", exclude_defaults=True)}


def from_data(data: Any, path: Path) -> Study:
    """Build a study from plain data; ``path`` names the file in refusals."""
    by_hand = isinstance(data, dict) and isinstance(data.get("steps"), list)
    if not isinstance(data, dict) or not (MARK in data or by_hand):
        raise MossError(f"{path} is not a Moss Step study.", "Choose a file that ends in .moss.")
    version = data.pop(MARK, VERSION)
    if isinstance(version, bool) or not isinstance(version, int) or version < 1:
        raise MossError(
            f"{path} is damaged: its version is {str(version)[:40]!r}.",
            "It was left as it is. Look for a copy.",
        )
    if version > VERSION:
        raise MossError(
            f"{path} was written by a newer Moss Step (study version {version}; this one reads {VERSION}).",
            "It was left as it is. Open it with the newer one.",
        )
    try:
        if _has_surrogates(data):
            raise MossError("it holds characters that are none.")
        study = in_new_words(Study.model_validate(data))
        if len(study.steps) > MOST_STEPS or len(study.pins) > MOST_PINS:
            raise MossError(
                f"it has {len(study.steps):,} steps and {len(study.pins):,} pins, and at most "
                f"{MOST_STEPS:,} and {MOST_PINS:,} are read."
            )
        _check_kinds(study)
        study.in_order()
    except ValidationError as error:
        first = error.errors(include_url=False)[0]
        where = ".".join(str(p) for p in first["loc"])
        close = meant(str(first["loc"][-1]), _known_words()) if first["type"] == "extra_forbidden" else ""
        said = f"{path} is damaged at {where}: {first['msg']}."
        raise MossError(f"{said} {close}".strip(), "It was left as it is.") from error
    except MossError as error:
        raise MossError(f"{path} is damaged: {error.what}", "It was left as it is.") from error
    return _cleaned(study)


def _known_words() -> list[str]:
    """Names of all that a study, its steps and the rows of its Key may hold."""
    return [n for model in (Study, Step, KeyRow, Shading) for n in model.model_fields]


def _cleaned(study: Study) -> Study:
    """A study without what counts for nothing: settings of an earlier version, and rows of the Key or a
    shaded ground that no step gives.
    """
    steps = tuple(
        s.model_copy(update={"settings": s.declared.cleaned(s.settings, s.inputs)}) for s in study.steps
    )
    key = tuple(row for row in study.key if study.has(row.step))
    lost = study.shading.ground and not study.has(study.shading.ground)
    shading = study.shading.model_copy(update={"ground": ""}) if lost else study.shading
    return study.model_copy(update={"steps": steps, "key": key, "shading": shading})


def _has_surrogates(data: Any) -> bool:
    """Whether a text anywhere in plain data holds half a character, which no file could be written with."""
    try:
        json.dumps(data, ensure_ascii=False).encode()
    except UnicodeEncodeError:
        return True
    return False


def _check_kinds(study: Study) -> None:
    ids = [s.id for s in study.steps]
    if len(set(ids)) != len(ids):
        raise MossError("two steps have one id.")
    unknown = [s.kind for s in study.steps if not is_step(s.kind)]
    if unknown:
        close = meant(unknown[0], catalogue())
        raise MossError(f"it has a step '{unknown[0]}' that this Moss Step does not know. {close}".strip())
    for step in study.steps:
        gone = [ref for ref in step.inputs.values() if not study.has(ref)]
        if gone:
            close = meant(gone[0], ids)
            raise MossError(
                f"step '{step.id}' works from '{gone[0][:60]}', which no step gives. {close}".strip()
            )
        strange = [n for n in step.inputs if step.declared.input(n) is None]
        if strange:
            close = meant(strange[0], [i.name for i in step.declared.inputs])
            raise MossError(
                f"step '{step.id}': {step.kind} has no input '{strange[0][:60]}'. {close}".strip()
            )
        try:
            step.declared.checked({n: v for n, v in step.settings.items() if n not in step.declared.retired})
        except AskedWronglyError as error:
            said = f"step '{step.id}': {error}" if "has no setting" in error.what else error.what
            raise MossError(said if "step '" in said else f"step '{step.id}': {said}") from error


def with_paths(study: Study, turn: Callable[[str], str]) -> Study:
    """A study with every file that it names turned into another: sources of steps, and pictures of pages."""

    def turned(step: Step) -> Step:
        names = [n for n in step.declared.file_settings if n in step.settings] if is_step(step.kind) else []
        settings = {**step.settings, **{n: str(turn(step.settings[n])) for n in names}}
        return step.model_copy(update={"settings": settings})

    def placed(page: Page) -> Page:
        """A page whose pictures lie elsewhere."""
        return page.with_parts(
            p.model_copy(update={"file": str(turn(p.file))}) if p.kind == "picture" and p.file else p
            for p in page.parts
        )

    pages = tuple(placed(page) if page.pictures else page for page in study.pages)
    return study.model_copy(update={"steps": tuple(turned(s) for s in study.steps), "pages": pages})
