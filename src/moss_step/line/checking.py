"""``moss-step check``: whether studies are in order, with nothing run."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from moss_step.formats.source import files_of
from moss_step.formats.vector import split_layer
from moss_step.line.parcels import check_one, is_parcel
from moss_step.model.errors import AskedWronglyError, MossError


def check(studies: Sequence[Path], sources: Path | None = None, quiet: bool = False) -> None:
    """Say of each study whether it can be opened and run: its form, its steps, and that its files are there;
    a parcel is run anew, and each of its figures held against what it was.

    Raises AskedWronglyError at the end when a study cannot be run, MossError when a parcel differs.
    """
    from moss_step.study.saving import load_study

    wrong = differing = 0
    for path in studies:
        if is_parcel(path):
            said = check_one(path, sources, quiet)
            differing += bool(said)
            print("\n".join(said), end="\n" if said else "")
            continue
        try:
            study = load_study(path)
            gone = [s for s in study.source_files if not files_of(split_layer(s)[0])]
            problems = [f"{path}: {file} was not found." for file in gone]
        except MossError as error:
            problems = [str(error)]
        wrong += bool(problems)
        for line in problems:
            print(line)
        if not problems:
            print(f"{path}: {len(study.steps)} steps, in order.")
    if differing:
        raise MossError(
            f"{differing} of {len(studies)} parcels do not give the same.", "What differs stands above."
        )
    if wrong:
        raise AskedWronglyError(
            f"{wrong} of {len(studies)} studies cannot be run.", "What is wrong stands above."
        )
