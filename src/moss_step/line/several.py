"""``moss-step hand-on``: several results of a study at once, with an index."""

from __future__ import annotations

import argparse
import json
from collections.abc import Sequence
from pathlib import Path

from moss_step.line.bar import Bar
from moss_step.line.outs import Out, make_ready, remember
from moss_step.model.errors import AskedWronglyError


def several(asked: argparse.Namespace) -> None:
    """Write results of a study into a folder, or into one GeoPackage.

    Raises MossError for what cannot be read, worked out or written, AskedWronglyError for results and formats
    that there are none of.
    """
    from moss_step.scene.bundle import hand_on_several
    from moss_step.study.engine import Engine
    from moss_step.study.saving import load_study

    study = load_study(asked.study)
    usual = [ref for ref in study.refs(asked=False) if study.step(ref).inputs]
    gone = [ref for ref in asked.results if not study.has(ref)]
    if gone:
        known = ", ".join(study.refs()[:40])
        raise AskedWronglyError(f"The study has no result '{gone[0]}'.", f"It has: {known}.")
    endings = _endings(asked.formats)
    _check_free(asked.out, asked.overwrite)
    with Bar(asked.quiet) as progress:
        entries = hand_on_several(
            study, asked.results or usual, asked.out, Engine(), endings, progress=progress
        )
    if asked.out.is_file():
        remember(asked.out)
    if asked.json:
        rows = [{"file": e.file, "name": e.name, "figure": e.figure, "remarks": e.remarks} for e in entries]
        print(json.dumps({"kind": "hand-on", "outputs": rows}))
    elif not asked.quiet:
        for entry in entries:
            print(f"{entry.name}: {entry.figure} -> {entry.file}")
            for remark in entry.remarks:
                print(f"  note: {remark}")


def _endings(words: Sequence[str]) -> dict[str, str]:
    """Formats by kind, of words such as ``surface=.nc``."""
    result: dict[str, str] = {}
    for word in words:
        name, mark, ending = word.partition("=")
        if not mark:
            raise AskedWronglyError(f"'{word}' is no format of a kind.", "Write for example surface=.nc.")
        result[name] = f".{ending.removeprefix('.')}"
    return result


def _check_free(out: Path, overwrite: bool) -> None:
    """Refuse a package, or a folder, that holds what somebody else put there: an earlier index says that a
    folder is our own.
    """
    from moss_step.scene.bundle import INDEX, PACKAGE

    if out.suffix.lower() == PACKAGE:
        make_ready([Out("", out)], overwrite)
        return
    if overwrite or not out.exists():
        return
    if not out.is_dir():
        raise AskedWronglyError(f"{out} is a file.", "Name a folder, or a GeoPackage that ends in .gpkg.")
    if any(out.iterdir()) and not (out / INDEX).exists():
        raise AskedWronglyError(f"{out} holds other files.", "Name another folder, or give --overwrite.")


def add_words(own: argparse.ArgumentParser) -> None:
    """Add what may be asked for."""
    own.add_argument("study", type=Path)
    own.add_argument(
        "results", nargs="*", metavar="RESULT", help="ids of results (default: all that steps gave)"
    )
    out = "a folder, or one GeoPackage that ends in .gpkg"
    own.add_argument("-o", "--out", type=Path, required=True, metavar="OUT", help=out)
    chosen = "format of a kind, such as surface=.nc or shapes=.shp; may be given more than once"
    own.add_argument("--as", dest="formats", action="append", default=[], metavar="KIND=.ENDING", help=chosen)
    own.add_argument(
        "--overwrite", action="store_true", help="write into a folder that holds other files, too"
    )
    own.add_argument("--json", action="store_true", help="print what was written as one JSON object")
    own.add_argument("-q", "--quiet", action="store_true", help="print nothing but errors")
