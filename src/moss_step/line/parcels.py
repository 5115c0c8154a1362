"""``moss-step parcel``, and ``moss-step check`` of one: a study with its sources as one file, run anew."""

from __future__ import annotations

import argparse
import json
from pathlib import Path

from moss_step.line.bar import Bar
from moss_step.line.outs import Out, make_ready, remember
from moss_step.model.errors import AskedWronglyError, MossError


def is_parcel(path: Path) -> bool:
    """Whether a file is a parcel by its name."""
    return path.suffix.lower() == ".zip"


def parcel(asked: argparse.Namespace) -> None:
    """Pack a study.

    Raises MossError when it cannot be read, a source is missing, or the parcel cannot be written.
    """
    from moss_step.study.engine import Engine
    from moss_step.study.hand_on import check_not_a_source
    from moss_step.study.parcel import ENDING, pack
    from moss_step.study.saving import load_study

    out: Path = asked.out or asked.study.with_name(f"{asked.study.stem}{ENDING}")
    if out.suffix.lower() != ".zip":
        raise AskedWronglyError(f"A parcel cannot be written as '{out.name}'.", f"End it in {ENDING}.")
    study = load_study(asked.study)
    check_not_a_source(out, [*study.source_files, str(asked.study)])
    make_ready([Out("", out)], asked.overwrite)
    with Bar(asked.quiet) as progress:
        manifest = pack(study, out, Engine(), not asked.hashes_only, asked.results, progress)
    remember(out)
    if asked.json:
        held = {
            "sources": len(manifest.sources),
            "figures": len(manifest.figures),
            "failed": dict(manifest.failed),
        }
        print(json.dumps({"kind": "parcel", "outputs": [str(out)], **held}))
    elif not asked.quiet:
        print(f"{out}: {len(manifest.sources)} sources, {len(manifest.figures)} figures")
        for ref, why in manifest.failed.items():
            print(f"  note: {ref} was not worked out: {why}")


def check_one(path: Path, sources: Path | None, quiet: bool) -> list[str]:
    """Run a parcel anew, and say what differs; a line for each."""
    from moss_step.study.parcel import check_parcel

    try:
        with Bar(quiet) as progress:
            checked = check_parcel(path, sources, progress)
    except MossError as error:
        return [str(error)]
    if checked.is_same:
        print(f"{path}: {checked.same:,} figures, all the same.")
        return []
    differing = [f"{path}: {line}" for line in (*checked.differing, *checked.missing)]
    return [*differing, f"{path}: {checked.same:,} figures are the same, {len(differing):,} are not."]


def add_words(own: argparse.ArgumentParser) -> None:
    """Add what may be asked for."""
    own.add_argument("study", type=Path)
    own.add_argument("-o", "--out", type=Path, help="file of the parcel (default: beside the study)")
    only = "leave the sources out, and keep their hashes"
    own.add_argument("--hashes-only", action="store_true", help=only)
    own.add_argument("--results", action="store_true", help="put every result in, too, in an open format")
    own.add_argument("--overwrite", action="store_true", help="replace files of other programs, too")
    own.add_argument("--json", action="store_true", help="print what was packed as one JSON object")
    own.add_argument("-q", "--quiet", action="store_true", help="print nothing but errors")
