"""Several results handed on at once: a folder of files with an index, or one GeoPackage."""

from __future__ import annotations

import csv
import io
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

import numpy as np

from moss_step.formats import coverage
from moss_step.formats.sld import ENDING as STYLE
from moss_step.formats.sld import write_style
from moss_step.formats.vector import write_shapes, write_table_layer
from moss_step.formats.whole import whole_file, write_text
from moss_step.kinds.registry import kind_of
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.model.outcome import Outcome
from moss_step.model.progress import Progress, silent
from moss_step.model.shapes import Shapes
from moss_step.model.table import Table
from moss_step.model.typed import of_kind
from moss_step.scene.colors import DEEP
from moss_step.scene.pictures import prepared_picture
from moss_step.scene.styles import style_of
from moss_step.study.engine import Engine
from moss_step.study.graph import Study, file_name
from moss_step.study.hand_on import check_not_a_source, hand_on
from moss_step.study.record import lineage


def _deep(_: str) -> str:
    return DEEP


PACKAGE = ".gpkg"
INDEX, TABLE = "index.txt", "index.csv"
_HEADS = ("number", "file", "name", "what", "figure", "source", "lineage", "style", "remark")


@dataclass
class Entry:
    """One result that was handed on: its file, or its layer, and what is to be said of it."""

    number: int
    file: str
    name: str
    what: str
    figure: str
    source: str
    lineage: str = ""
    style: str = ""
    remarks: list[str] = field(default_factory=list)

    @property
    def row(self) -> tuple[str, ...]:
        """It as a row of the index."""
        of_file = (str(self.number), self.file, self.name, self.what, self.figure)
        return (*of_file, self.source, self.lineage, self.style, " ".join(self.remarks))


def hand_on_several(
    study: Study,
    refs: Sequence[str],
    path: Path,
    engine: Engine,
    endings: Mapping[str, str] | None = None,
    colors: Callable[[str], str] = _deep,
    progress: Progress | None = None,
) -> list[Entry]:
    """Write results into a folder, or into one GeoPackage, with an index that a person
    reads.

    ``endings`` choose the format of each kind by its name; the first one of the kind is usual. Names begin
    with a number, so that they sort as the study runs. Raises MossError when a result is not there or a file
    cannot be written; AskedWronglyError for nothing to write, or a format that a kind is not written in.
    """
    if not refs:
        raise AskedWronglyError("Nothing is chosen to hand on.", "Choose a result or more.")
    progress, package = progress or silent(), path if path.suffix.lower() == PACKAGE else None
    folder = path.parent if package is not None else path
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise MossError(
            f"The folder {folder} cannot be made: {error.strerror}.", "Write somewhere else."
        ) from error
    if package is None:
        entries = _hand_on(study, refs, folder, None, engine, endings or {}, colors, progress)
        _write_index(study, folder, entries)
        return entries
    check_not_a_source(package, study.source_files)
    with whole_file(package) as part:
        part.unlink()
        entries = _hand_on(study, refs, folder, part, engine, endings or {}, colors, progress)
        for entry in entries:
            entry.file = entry.file.replace(f"{part.name}#", f"{package.name}#")
        held = {h: np.array([e.row[k] for e in entries], object) for k, h in enumerate(_HEADS)}
        write_table_layer(part, held, "index", f"What {study.name} hands on")
    _write_index(study, folder, entries, f"{package.stem}_")
    return entries


def _hand_on(
    study: Study,
    refs: Sequence[str],
    folder: Path,
    package: Path | None,
    engine: Engine,
    endings: Mapping[str, str],
    colors: Callable[[str], str],
    progress: Progress,
) -> list[Entry]:
    """Write each result, into the package where it takes it, else into the folder."""
    entries, digits = [], len(str(len(refs)))
    for k, ref in enumerate(refs):
        outcome = engine.run_or_raise(study, ref, progress.part(k / len(refs), (k + 1) / len(refs)))
        name = f"{k + 1:0{digits}d}_{file_name(study.name_of(ref))}"
        entry = _entry(study, ref, outcome, k + 1)
        if package is not None and _into_package(package, outcome, name, study.name_of(ref)):
            entry.file = f"{package.name}#{name}"
            _write_style(study, ref, outcome, folder, name, entry, colors)
        else:
            _into_folder(study, ref, outcome, folder, name, entry, engine, endings, colors)
        entries.append(entry)
    return entries


def _entry(study: Study, ref: str, outcome: Outcome, number: int) -> Entry:
    sources = sorted({Path(file).name for step in study.needs([ref]) for file in step.files})
    what = kind_of(outcome.value).describe(outcome.value)
    return Entry(
        number, "", study.name_of(ref), what, study.telling.figure(outcome.figure), ", ".join(sources)
    )


def _into_package(package: Path, outcome: Outcome, layer: str, about: str) -> bool:
    """Write a result as a layer of a package; tells whether that takes it as it is."""
    value = outcome.value
    shapes, table = of_kind(value, Shapes), of_kind(value, Table)
    if shapes is not None:
        write_shapes(package, shapes, layer, about)
    elif table is not None:
        write_table_layer(package, table.columns, layer, about)
    elif coverage.holds(value):
        coverage.add_coverage(package, value, layer, about)  # type: ignore[arg-type]
    else:
        return False
    return True


def _into_folder(
    study: Study,
    ref: str,
    outcome: Outcome,
    folder: Path,
    name: str,
    entry: Entry,
    engine: Engine,
    endings: Mapping[str, str],
    colors: Callable[[str], str],
) -> None:
    kind = kind_of(outcome.value)
    ending = endings.get(kind.name, kind.endings[0])
    if ending not in kind.written_as:
        raise AskedWronglyError(
            f"{kind.noun.capitalize()} cannot be written as '{ending}'.", f"Use {', '.join(kind.written_as)}."
        )
    target = folder / f"{name}{ending}"
    check_not_a_source(target, study.source_files)
    said = lineage(study, ref, engine)
    text = "\n".join(line for line in said.splitlines() if not line.startswith("Written:")) + "\n"
    entry.remarks += hand_on(replace(outcome, lineage=text), study.name_of(ref), target)
    entry.file = target.name
    record = folder / f"{name}.lineage.txt"
    write_text(record, text)
    entry.lineage = record.name
    _write_style(study, ref, outcome, folder, name, entry, colors)


def _write_style(
    study: Study,
    ref: str,
    outcome: Outcome,
    folder: Path,
    name: str,
    entry: Entry,
    colors: Callable[[str], str],
) -> None:
    """Write how a result is drawn beside it, where a style is known for it."""
    picture = prepared_picture(outcome.value)
    row = study.key_row(ref) or study.first_row(ref)
    style = style_of(study.name_of(ref), picture, row, colors(ref)) if picture.on_plan else ""
    if style:
        write_style(folder / f"{name}{STYLE}", style)
        entry.style = f"{name}{STYLE}"


def _write_index(study: Study, folder: Path, entries: Sequence[Entry], base: str = "") -> None:
    """Write the index: as text that is read, and as rows."""
    lines = [f"{study.name}: {len(entries)} results", ""]
    for entry in entries:
        lines += [
            f"{entry.number}. {entry.name}",
            f"   {entry.file}",
            f"   {entry.what}",
            f"   {entry.figure}",
        ]
        lines += [f"   from {entry.source}"] if entry.source else []
        lines += [f"   lineage: {entry.lineage}"] if entry.lineage else []
        lines += [f"   style: {entry.style}"] if entry.style else []
        lines += [f"   note: {r}" for r in entry.remarks] + [""]
    write_text(folder / f"{base}{INDEX}", "\n".join(lines))
    out = io.StringIO()
    table = csv.writer(out, lineterminator="\n")
    table.writerow(_HEADS)
    table.writerows(entry.row for entry in entries)
    write_text(folder / f"{base}{TABLE}", out.getvalue())
