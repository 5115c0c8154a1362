"""A parcel: a study with its sources, its results where they are wanted, and a manifest of checksums and
figures, as one zip.

Checksums are SHA-256 (FIPS 180-4); the zip is that of PKWARE's APPNOTE, with no times of its own: a parcel of
the same study is the same file.
"""

from __future__ import annotations

import hashlib
import json
import lzma
import math
import os
import shutil
import tempfile
import zipfile
import zlib
from collections.abc import Iterable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path, PurePosixPath
from typing import Any

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from moss_step import __version__
from moss_step.formats.source import files_of
from moss_step.formats.vector import split_layer
from moss_step.formats.whole import half_folder, in_words, printable, whole_file
from moss_step.kinds.registry import kind_of
from moss_step.model.errors import MossError
from moss_step.model.progress import Progress, silent
from moss_step.study.engine import Engine
from moss_step.study.graph import Study, file_name
from moss_step.study.hand_on import check_not_a_source, hand_on
from moss_step.study.record import lineage
from moss_step.study.saving import as_data, load_study, with_paths

ENDING = ".parcel.zip"
VERSION = 1
MANIFEST, STUDY, SOURCES, RESULTS = "manifest.json", "study.moss", "sources", "results"
_DAMAGE = (
    zipfile.BadZipFile,
    zlib.error,
    lzma.LZMAError,
    EOFError,
    NotImplementedError,
    RuntimeError,
    UnicodeDecodeError,
    OverflowError,
)
"""What the reader of zips throws at damage."""
_TIME = (1980, 1, 1, 0, 0, 0)
_PIECE = 4 * 1024 * 1024
MOST_FILES, MOST_MANIFEST = 20_000, 64_000_000
MOST_GROWTH, ALWAYS = 250, 64_000_000
"""How many times larger than the zip what is in it may be, beside some bytes that are always allowed: more
is no honest parcel.
"""
ALIKE = 1e-9
"""By what share figures may differ and are still the same: other machines sum in another order."""


class Held(BaseModel):
    """A file of a parcel, or one that it only knows: name in the zip, bytes and SHA-256."""

    model_config = ConfigDict(frozen=True, extra="ignore")
    path: str
    bytes: int = Field(ge=0)
    sha256: str = Field(pattern="^[0-9a-f]{64}$")


class Source(BaseModel):
    """A source of the study: what the study calls it, and its files."""

    model_config = ConfigDict(frozen=True, extra="ignore")
    source: str
    files: tuple[Held, ...]
    included: bool = True


class Figure(BaseModel):
    """A figure of a result as it was when the parcel was packed."""

    model_config = ConfigDict(frozen=True, extra="ignore")
    result: str
    name: str
    of: str = ""
    value: float | None
    unit: str = ""


class Manifest(BaseModel):
    """What a parcel holds."""

    model_config = ConfigDict(frozen=True, extra="ignore")
    moss_step_parcel: int
    program: str = ""
    study: Held
    sources: tuple[Source, ...] = ()
    results: tuple[Held, ...] = ()
    figures: tuple[Figure, ...] = ()
    failed: Mapping[str, str] = Field(default_factory=dict)


@dataclass
class Checked:
    """What running a parcel anew gave: figures that are the same, those that differ, and what could not be
    run.
    """

    same: int = 0
    differing: list[str] = field(default_factory=list)
    missing: list[str] = field(default_factory=list)

    @property
    def is_same(self) -> bool:
        """Whether every figure is as it was."""
        return not self.differing and not self.missing


# --- packing


def pack(
    study: Study,
    path: Path,
    engine: Engine,
    with_sources: bool = True,
    with_results: bool = False,
    progress: Progress | None = None,
) -> Manifest:
    """Run a study and write it as a parcel, whole or not at all.

    Raises MossError when a source is missing or the parcel cannot be written, AskedWronglyError where it
    would replace a source; a step that fails is noted.
    """
    progress = progress or silent()
    check_not_a_source(path, [*study.source_files, *study.pictures])
    figures, failed = _figures(study, engine, progress.part(0.0, 0.6))
    named = list(dict.fromkeys([*study.source_files, *study.pictures]))
    with (
        whole_file(path) as part,
        tempfile.TemporaryDirectory(prefix="moss-parcel-") as work,
        in_words(path, "written"),
        zipfile.ZipFile(part, "w", zipfile.ZIP_DEFLATED, allowZip64=True) as out,
    ):
        sources, places = _pack_sources(out, named, with_sources, progress.part(0.6, 0.85))
        moved = with_paths(study, lambda source: places.get(source, source))
        about = _put_text(out, STUDY, json.dumps(as_data(moved), indent=1) + "\n")
        results = _pack_results(out, study, engine, Path(work), failed) if with_results else ()
        manifest = Manifest(
            moss_step_parcel=VERSION,
            program=__version__,
            study=about,
            sources=tuple(sources),
            results=results,
            figures=tuple(figures),
            failed=failed,
        )
        _put_text(out, MANIFEST, json.dumps(manifest.model_dump(), indent=1) + "\n")
    progress.at(1.0, "")
    return manifest


def _figures(study: Study, engine: Engine, progress: Progress) -> tuple[list[Figure], dict[str, str]]:
    """All figures of all results, worked out; and why those that cannot be are not."""
    figures: list[Figure] = []
    failed: dict[str, str] = {}
    refs = study.refs(asked=False)
    for k, ref in enumerate(refs):
        part = progress.part(k / max(len(refs), 1), (k + 1) / max(len(refs), 1))
        try:
            outcome = engine.run_or_raise(study, ref, part)
        except MossError as error:
            failed[ref] = error.what
            continue
        for f in outcome.findings:
            value = float(f.value) if math.isfinite(f.value) else None
            figures.append(Figure(result=ref, name=f.name, of=f.of, value=value, unit=f.unit.key))
    return figures, failed


def _pack_sources(
    out: zipfile.ZipFile, named: list[str], included: bool, progress: Progress
) -> tuple[list[Source], dict[str, str]]:
    """Put the files of each source into a folder of its own; gives them, and what the study calls them
    then.
    """
    sources, places = [], {}
    for k, source in enumerate(named):
        path, layer = split_layer(source)
        files = files_of(path)
        if not files:
            raise MossError(f"{path} was not found.", "Give its card the file, then pack the study.")
        root = _root([path, *files] if path.suffix else files)
        folder = f"{SOURCES}/{k + 1:03d}"
        held = []
        for n, file in enumerate(files):
            progress.at((k + n / len(files)) / len(named), f"Packing {file.name}")
            name = f"{folder}/{file.resolve().relative_to(root).as_posix()}" if included else file.name
            held.append(_put_file(out, name, file) if included else Held(path=name, **_digest(file)))
        sources.append(Source(source=source, files=tuple(held), included=included))
        if included:
            inner = path.resolve().relative_to(root).as_posix()
            places[source] = f"{folder}/{inner}" + (f"#{layer}" if layer else "")
        else:
            places[source] = path.name + (f"#{layer}" if layer else "")
    return sources, places


def _root(files: Iterable[Path]) -> Path:
    """The folder that holds all of some files."""
    folders = [str(f.resolve().parent) for f in files]
    return Path(os.path.commonpath(folders))


def _pack_results(
    out: zipfile.ZipFile, study: Study, engine: Engine, work: Path, failed: Mapping[str, str]
) -> tuple[Held, ...]:
    held = []
    for ref in study.refs(asked=False):
        if not study.step(ref).inputs or ref in failed:
            continue
        outcome = engine.run_or_raise(study, ref)
        name = file_name(f"{ref.replace('.', '_')}_{study.name_of(ref)}")
        folder = work / ref.replace(".", "_")
        folder.mkdir()
        kind = kind_of(outcome.value)
        try:
            hand_on(outcome, study.name_of(ref), folder / f"{name}{kind.endings[0]}")
        except MossError as error:
            (folder / f"{name}.txt").write_text(f"Not written: {error}\n", encoding="utf-8")
        (folder / f"{name}.lineage.txt").write_text(
            lineage(study, ref, engine, dated=False), encoding="utf-8"
        )
        held += [_put_file(out, f"{RESULTS}/{f.name}", f) for f in sorted(folder.iterdir())]
        shutil.rmtree(folder)
    return tuple(held)


def _info(name: str) -> zipfile.ZipInfo:
    info = zipfile.ZipInfo(name, _TIME)
    info.compress_type, info.external_attr = zipfile.ZIP_DEFLATED, 0o644 << 16
    return info


def _put_text(out: zipfile.ZipFile, name: str, text: str) -> Held:
    data = text.encode()
    out.writestr(_info(name), data)
    return Held(path=name, bytes=len(data), sha256=hashlib.sha256(data).hexdigest())


def _put_file(out: zipfile.ZipFile, name: str, file: Path) -> Held:
    digest, count = hashlib.sha256(), 0
    with file.open("rb") as read, out.open(_info(name), "w", force_zip64=True) as into:
        while piece := read.read(_PIECE):
            digest.update(piece)
            count += len(piece)
            into.write(piece)
    return Held(path=name, bytes=count, sha256=digest.hexdigest())


def _digest(file: Path) -> dict[str, Any]:
    with file.open("rb") as read:
        return {"sha256": hashlib.file_digest(read, "sha256").hexdigest(), "bytes": read.tell()}


# --- opening


def read_manifest(path: Path) -> Manifest:
    """Read what a parcel holds; nothing is unpacked.

    Raises MossError when it is damaged, no parcel, of a newer version, or not honest.
    """
    with _opened(path) as held:
        return _manifest(held, path)


def unpack(path: Path, folder: Path, progress: Progress | None = None) -> Path:
    """Unpack a parcel into a folder that is not there yet, each file held against its checksum; gives the
    study's file.

    Raises MossError when anything is not as the manifest says; nothing stays then.
    """
    progress = progress or silent()
    if folder.exists():
        raise MossError(f"{folder} is there already.", "Choose another folder, or remove it.")
    if not folder.parent.is_dir():
        raise MossError(f"The folder {folder.parent} does not exist.", "Make it, or choose another.")
    with _opened(path) as held:
        manifest = _manifest(held, path)
        _check_room(held, path, folder.parent)
        with half_folder(folder) as work, in_words(path, "unpacked"):
            part = work / "parcel"
            part.mkdir()
            _unpack_all(held, manifest, part, path, progress)
            part.rename(folder)
    return folder / STUDY


def _unpack_all(
    held: zipfile.ZipFile, manifest: Manifest, folder: Path, path: Path, progress: Progress
) -> None:
    included = [f for s in manifest.sources if s.included for f in s.files]
    files = [manifest.study, *included, *manifest.results]
    for k, file in enumerate(files):
        progress.at(k / len(files), f"Unpacking {file.path}")
        _safe(file.path, path)
        target = folder / file.path
        target.parent.mkdir(parents=True, exist_ok=True)
        digest, count = hashlib.sha256(), 0
        with _member(held, file.path, path) as read, target.open("wb") as into:
            while piece := read.read(_PIECE):
                digest.update(piece)
                count += len(piece)
                if count > file.bytes:
                    break
                into.write(piece)
        if count != file.bytes or digest.hexdigest() != file.sha256:
            raise MossError(
                f"{path} is damaged: '{printable(file.path)}' is not what the manifest says.",
                "Fetch it again.",
            )
    (folder / MANIFEST).write_bytes(held.read(MANIFEST))


@contextmanager
def _member(held: zipfile.ZipFile, name: str, path: Path) -> Iterator[Any]:
    try:
        with held.open(name) as read:
            yield read
    except KeyError:
        raise MossError(f"{path} is damaged: '{printable(name)}' is missing.", "Fetch it again.") from None


@contextmanager
def _opened(path: Path) -> Iterator[zipfile.ZipFile]:
    """A parcel's zip, once it was seen that its names stay inside and its sizes are honest."""
    if not path.is_file():
        raise MossError(f"{path} was not found.", "Check the name.")
    try:
        with zipfile.ZipFile(path) as held:
            _check_honest(held, path)
            yield held
    except _DAMAGE as error:
        raise MossError(f"{path} is damaged or no parcel: {error}.", "Fetch it again.") from error


def _check_honest(held: zipfile.ZipFile, path: Path) -> None:
    members = held.infolist()
    if len(members) > MOST_FILES:
        many = f"{path} holds {len(members):,} files, and a parcel at most {MOST_FILES:,}."
        raise MossError(many, "Ask who sent it.")
    names = [m.filename for m in members]
    if len(set(names)) < len(names):
        raise MossError(f"{path} holds one name twice.", "Ask who sent it.")
    for member in members:
        _safe(member.filename, path)
        if member.flag_bits & 1:
            raise MossError(f"{path} is locked with a password.", "A parcel has none. Ask who sent it.")
    whole, packed = sum(m.file_size for m in members), path.stat().st_size
    if whole > packed * MOST_GROWTH + ALWAYS:
        grown = f"{path} would grow from {packed / 1e6:,.1f} MB to {whole / 1e6:,.0f} MB"
        raise MossError(f"{grown}: that is no honest parcel.", "Ask who sent it.")


def _check_room(held: zipfile.ZipFile, path: Path, folder: Path) -> None:
    """See that what is in a parcel fits where it is to be unpacked."""
    whole, free = sum(m.file_size for m in held.infolist()), shutil.disk_usage(folder).free
    if whole > free:
        raise MossError(
            f"{path} needs {whole / 1e6:,.0f} MB, and {free / 1e6:,.0f} MB are free.", "Free some space."
        )


def _safe(name: str, path: Path) -> None:
    """Refuse a name that would lie outside of the folder, or is none."""
    pure = PurePosixPath(name)
    strange = "\\" in name or ":" in name or "\0" in name or any(ord(c) < 32 for c in name)
    if not name or strange or pure.is_absolute() or ".." in pure.parts or pure.parts[:1] == ("~",):
        raise MossError(
            f"{path} holds a file '{printable(name)[:80]}' that would lie elsewhere.", "Ask who sent it."
        )


def _manifest(held: zipfile.ZipFile, path: Path) -> Manifest:
    try:
        info = held.getinfo(MANIFEST)
    except KeyError:
        raise MossError(f"{path} is no parcel: it has no {MANIFEST}.", f"Parcels end in {ENDING}.") from None
    if info.file_size > MOST_MANIFEST:
        raise MossError(f"{path} is damaged: its manifest is too large.", "Fetch it again.")
    try:
        data = json.loads(held.read(MANIFEST))
        version = data.get("moss_step_parcel") if isinstance(data, dict) else None
        if isinstance(version, int) and version > VERSION:
            newer = f"parcel version {version}; this one reads {VERSION}"
            raise MossError(
                f"{path} was packed by a newer Moss Step ({newer}).", "Open it with the newer one."
            )
        return Manifest.model_validate(data)
    except (ValueError, RecursionError) as error:
        said = error.errors()[0]["msg"] if isinstance(error, ValidationError) else str(error)
        raise MossError(
            f"{path} is damaged: its manifest cannot be read: {said}.", "Fetch it again."
        ) from error


def open_parcel(
    path: Path, folder: Path, beside: Path | None = None, progress: Progress | None = None
) -> Study:
    """Unpack a parcel and read its study. Sources that it only knows by their hashes are looked for in
    ``beside``, or beside the parcel.

    Raises MossError when it cannot be unpacked or read, or such a source is not there or another one.
    """
    study = load_study(unpack(path, folder, progress))
    here, places = beside or path.resolve().parent, {}
    for source in read_manifest(path).sources:
        if not source.included:
            _check_known(source, here, path)
            name, layer = split_layer(source.source)
            tail = f"#{layer}" if layer else ""
            places[f"{(folder / name.name).resolve()}{tail}"] = f"{(here / name.name).resolve()}{tail}"
    return with_paths(study, lambda source: places.get(source, source)) if places else study


def _check_known(source: Source, here: Path, path: Path) -> None:
    """See that the files which a parcel only knows are in a folder, and are those."""
    for held in source.files:
        _safe(held.path, path)
        found = here / held.path
        if not found.is_file():
            raise MossError(
                f"The parcel knows '{held.path}' by its hash only, and it is not in {here}.",
                "Put it there, or name its folder.",
                "Put it there, or name its folder: --sources FOLDER",
            )
        if _digest(found)["sha256"] != held.sha256:
            raise MossError(
                f"{found} is not the file that the parcel was packed with.", "Find the right one."
            )


# --- checking


def check_parcel(path: Path, beside: Path | None = None, progress: Progress | None = None) -> Checked:
    """Run a parcel anew in a folder that goes afterwards, and hold every figure against the one that it was
    packed with.

    Raises MossError when it cannot be opened; figures that differ, or are not there any more, are listed.
    """
    progress = progress or silent()
    with tempfile.TemporaryDirectory(prefix="moss-parcel-") as work:
        study = open_parcel(
            path, Path(work) / "parcel", beside or path.resolve().parent, progress.part(0.0, 0.1)
        )
        manifest = read_manifest(path)
        engine = Engine()
        try:
            figures, failed = _figures(study, engine, progress.part(0.1, 1.0))
        finally:
            engine.close()
    return compared(study, manifest, figures, failed)


def compared(study: Study, manifest: Manifest, figures: list[Figure], failed: Mapping[str, str]) -> Checked:
    """Hold figures against those of a manifest."""
    result, now = Checked(), {(f.result, f.name, f.of): f for f in figures}
    for old in manifest.figures:
        fresh = now.pop((old.result, old.name, old.of), None)
        what = _words(study, old)
        if fresh is None:
            why = failed.get(old.result, "it is not told any more")
            result.missing.append(f"{what}: {why}")
        elif not _alike(old.value, fresh.value) or old.unit != fresh.unit:
            result.differing.append(f"{what}: {_number(old.value)} then, {_number(fresh.value)} now")
        else:
            result.same += 1
    result.differing += [f"{_words(study, f)}: not told then, {_number(f.value)} now" for f in now.values()]
    result.missing += [
        f"{study.name_of(ref) if study.has(ref) else ref}: {why}"
        for ref, why in failed.items()
        if ref not in manifest.failed and not any(f.result == ref for f in manifest.figures)
    ]
    return result


def _words(study: Study, figure: Figure) -> str:
    name = study.name_of(figure.result) if study.has(figure.result) else figure.result
    return f"{name}, {figure.name}{f' of {figure.of}' if figure.of else ''}"


def _number(value: float | None) -> str:
    return "none" if value is None else f"{value:.12g}"


def _alike(a: float | None, b: float | None) -> bool:
    if a is None or b is None:
        return a is b
    return math.isclose(a, b, rel_tol=ALIKE, abs_tol=1e-12)
