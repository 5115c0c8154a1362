"""``moss-step lineage`` and ``moss-step script``: how results came about, and a study as a script."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from moss_step.line.bar import Bar
from moss_step.line.outs import Out, make_ready, remember
from moss_step.line.sheeting import begin_letters
from moss_step.model.errors import AskedWronglyError
from moss_step.process import noting_signals

if TYPE_CHECKING:
    from moss_step.model.progress import Progress
    from moss_step.study.engine import Engine
    from moss_step.study.graph import Study

TEXTS = (".txt", ".md", ".json")
PICTURES = (".svg", ".pdf", ".png", ".tif")


def lineage(asked: argparse.Namespace) -> None:
    """Write how a result came about: as text, as JSON of W3C PROV, or as a picture of the trail.

    Raises MossError for what cannot be read, worked out or written.
    """
    from moss_step.formats.whole import write_text
    from moss_step.study import record
    from moss_step.study.engine import Engine
    from moss_step.study.hand_on import check_not_a_source
    from moss_step.study.prov import as_prov
    from moss_step.study.saving import load_study

    out: Path = asked.out
    ending = out.suffix.lower()
    if ending not in (*TEXTS, *PICTURES):
        raise AskedWronglyError(
            f"Lineage cannot be written as '{out.name}'.", f"End it in {', '.join((*TEXTS, *PICTURES))}."
        )
    study = load_study(asked.study)
    refs = [asked.of] if asked.of else study.refs(asked=False)
    if asked.of and not study.has(asked.of):
        raise AskedWronglyError(
            f"The study has no result '{asked.of}'.", f"It has: {', '.join(study.refs()[:40])}."
        )
    check_not_a_source(out, [*study.source_files, str(asked.study)])
    make_ready([Out("", out)], asked.overwrite)
    engine = Engine()
    with Bar(asked.quiet) as progress:
        engine.run(study, refs, progress.part(0.0, 0.9))
        if ending == ".json":
            write_text(out, as_prov(study, refs, engine))
        elif ending in PICTURES:
            with noting_signals() as noted:
                noted.tell(progress.stop)
                _write_trail(study, engine, asked, progress)
        else:
            texts = [record.lineage(study, ref, engine) for ref in ([asked.of] if asked.of else _last(study))]
            write_text(out, "\n".join(texts))
    remember(out)
    if not asked.quiet:
        print(out)


def _last(study: Study) -> list[str]:
    """Results that nothing is made from."""
    fed = {ref.partition(".")[0] for step in study.steps for ref in step.inputs.values()}
    return [step.id for step in study.in_order() if step.id not in fed]


def _write_trail(study: Study, engine: Engine, asked: argparse.Namespace, progress: Progress) -> None:
    """Write the trail as a page of its own."""
    from moss_step.desk.sheet.output import write_sheets
    from moss_step.scene.sheet.layouts import trail_page
    from moss_step.scene.sheet.moment import moment
    from moss_step.scene.sheet.sheet import sheets_of

    begin_letters()
    page = trail_page(study, (asked.of,) if asked.of else ())
    now = moment(engine, study, page)
    sheets = sheets_of(now, page, asked.study.name, engine.file_hash)
    write_sheets(sheets, asked.out, None, progress.part(0.9, 1.0))


def script(asked: argparse.Namespace) -> None:
    """Write a study as a script.

    Raises MossError when it cannot be read or written, AskedWronglyError for another ending.
    """
    from moss_step.formats.whole import write_text
    from moss_step.study.hand_on import check_not_a_source
    from moss_step.study.saving import load_study
    from moss_step.study.script import ENDINGS, script_of

    if asked.out.suffix.lower() not in ENDINGS:
        raise AskedWronglyError(
            f"A script cannot be written as '{asked.out.name}'.", f"End it in {', '.join(ENDINGS)}."
        )
    study = load_study(asked.study)
    check_not_a_source(asked.out, [*study.source_files, str(asked.study)])
    make_ready([Out("", asked.out)], asked.overwrite)
    write_text(asked.out, script_of(study, asked.out))
    remember(asked.out)
    print(asked.out)


def add_lineage_words(own: argparse.ArgumentParser) -> None:
    """Add what may be asked of lineage."""
    own.add_argument("study", type=Path)
    own.add_argument("--of", default="", metavar="RESULT", help="id of a result (default: all of the study)")
    out = ".txt for a record, .json for W3C PROV, .svg .pdf .png .tif for a picture of the trail"
    own.add_argument("-o", "--out", type=Path, required=True, help=out)
    own.add_argument("--overwrite", action="store_true", help="replace files of other programs, too")
    own.add_argument("-q", "--quiet", action="store_true", help="print nothing but errors")


def add_script_words(own: argparse.ArgumentParser) -> None:
    """Add what may be asked of a script."""
    own.add_argument("study", type=Path)
    own.add_argument("-o", "--out", type=Path, required=True, help=".py for Python, .sh for shell commands")
    own.add_argument("--overwrite", action="store_true", help="replace files of other programs, too")
