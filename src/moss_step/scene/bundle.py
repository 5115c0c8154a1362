"""Several results handed on at once: a folder of files with an index, or one GeoPackage."""

from __future__ import annotations

import csv
import io
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

import numpy as np

from moss_step.formats.sld import ENDING as STYLE
from moss_step.formats.sld import write_style
from moss_step.formats.vector import write_table_layer
from moss_step.formats.whole import make_folder, whole_file, write_text
from moss_step.kinds.registry import all_kinds, kind_of
from moss_step.model.errors import AskedWronglyError
from moss_step.model.outcome import Outcome
from moss_step.model.progress import Progress, silent
from moss_step.scene.colors import DEEP
from moss_step.scene.pictures import prepared_picture
from moss_step.scene.styles import style_of
from moss_step.study.engine import Engine
from moss_step.study.graph import Study, file_name
from moss_step.study.hand_on import check_not_a_source, hand_on
from moss_step.study.record import lineage

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


@dataclass(frozen=True)
class _Job:
    """What is handed on: results of a study into a folder, each kind in a format of its own, and shapes in
    their colours.
    """

    study: Study
    engine: Engine
    folder: Path
    endings: Mapping[str, str]
    colors: Mapping[str, str]

    def into(self, package: Path | None, refs: Sequence[str], progress: Progress) -> list[Entry]:
        """Write each result, into the package where that holds it as it is, else into the folder."""
        entries, digits = [], len(str(len(refs)))
        for k, ref in enumerate(refs):
            part = progress.part(k / len(refs), (k + 1) / len(refs))
            outcome = self.engine.run_or_raise(self.study, ref, part)
            entry = self._entry(ref, outcome, k + 1)
            stem, about = f"{entry.number:0{digits}d}_{file_name(entry.name)}", entry.name
            layer = kind_of(outcome.value).layer
            if package is not None and layer is not None and layer(package, outcome.value, stem, about):
                entry.file = f"{package.name}#{stem}"
            else:
                self._write_file(ref, outcome, stem, entry)
            self._write_style(ref, outcome, stem, entry)
            entries.append(entry)
        return entries

    def _entry(self, ref: str, outcome: Outcome, number: int) -> Entry:
        study = self.study
        sources = sorted({Path(file).name for step in study.needs([ref]) for file in step.files})
        what, figure = kind_of(outcome.value).describe(outcome.value), study.telling.figure(outcome.figure)
        return Entry(number, "", study.name_of(ref), what, figure, ", ".join(sources))

    def _write_file(self, ref: str, outcome: Outcome, stem: str, entry: Entry) -> None:
        """Write a result as a file of its own, with its lineage beside."""
        kind = kind_of(outcome.value)
        target = self.folder / f"{stem}{self.endings.get(kind.name, kind.endings[0])}"
        record = self.folder / f"{stem}.lineage.txt"
        check_not_a_source(target, self.study.source_files)
        text = lineage(self.study, ref, self.engine, dated=False)
        entry.remarks += hand_on(replace(outcome, lineage=text), entry.name, target)
        write_text(record, text)
        entry.file, entry.lineage = target.name, record.name

    def _write_style(self, ref: str, outcome: Outcome, stem: str, entry: Entry) -> None:
        """Write how a result is drawn beside it, where a style is known for it."""
        picture = prepared_picture(outcome.value)
        row = self.study.key_row(ref) or self.study.first_row(ref)
        if picture.on_plan and (style := style_of(entry.name, picture, row, self.colors.get(ref, DEEP))):
            entry.style = f"{stem}{STYLE}"
            write_style(self.folder / entry.style, style)


def hand_on_several(
    study: Study,
    refs: Sequence[str],
    path: Path,
    engine: Engine,
    endings: Mapping[str, str] | None = None,
    colors: Mapping[str, str] | None = None,
    progress: Progress | None = None,
) -> list[Entry]:
    """Write results into a folder, or into one GeoPackage, with an index that a person reads.

    ``endings`` choose the format of each kind by its name; the first one of the kind is usual. ``colors`` are
    those of shapes by their results. Names begin with a number, so that they sort as the study runs. Raises
    MossError when a result is not there or a file cannot be written; AskedWronglyError for nothing to write,
    or a format that a kind is not written in.
    """
    if not refs:
        raise AskedWronglyError("Nothing is chosen to hand on.", "Choose a result or more.")
    _check_endings(endings or {})
    progress, package = progress or silent(), path if path.suffix.lower() == PACKAGE else None
    folder = path.parent if package is not None else path
    make_folder(folder / INDEX)
    job = _Job(study, engine, folder, endings or {}, colors or {})
    if package is None:
        entries = job.into(None, refs, progress)
        _write_index(study, folder, entries)
        return entries
    check_not_a_source(package, study.source_files)
    with whole_file(package) as part:
        part.unlink()
        entries = job.into(part, refs, progress)
        for entry in entries:
            entry.file = entry.file.replace(f"{part.name}#", f"{package.name}#")
        held = {h: np.array([e.row[k] for e in entries], object) for k, h in enumerate(_HEADS)}
        write_table_layer(part, held, "index", f"What {study.name} hands on")
    _write_index(study, folder, entries, f"{package.stem}_")
    return entries


def _check_endings(endings: Mapping[str, str]) -> None:
    known = all_kinds()
    for name, ending in endings.items():
        if name not in known:
            raise AskedWronglyError(f"There is no kind '{name}'.", f"Kinds: {', '.join(known)}.")
        written = known[name].written_as
        if ending not in written:
            noun = known[name].noun.capitalize()
            raise AskedWronglyError(f"{noun} cannot be written as '{ending}'.", f"Use {', '.join(written)}.")


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
