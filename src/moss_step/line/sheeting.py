"""``moss-step sheet``: pages of a study as files, without a screen."""

from __future__ import annotations

import argparse
import json
import os
from importlib.util import find_spec
from pathlib import Path
from typing import TYPE_CHECKING

from moss_step.line.bar import Bar
from moss_step.line.outs import Out, make_ready, remember
from moss_step.line.prepare import tell_of_compiling
from moss_step.model.errors import AskedWronglyError, MossError
from moss_step.process import Noted, noting_signals

if TYPE_CHECKING:
    from moss_step.model.progress import Progress
    from moss_step.study.engine import Engine
    from moss_step.study.graph import Study
    from moss_step.study.pages import Page

_NEEDED = ("PySide6", "pikepdf")
_LAYOUTS = ("plan_key", "plan_table", "compared", "figures")
"""Those of ``LAYOUTS``, which takes longer to load than the help should."""


def sheet(asked: argparse.Namespace) -> None:
    """Write a page of a study, or all pages of an atlas, or list the pages.

    Raises MossError for what cannot be read, worked out or written.
    """
    from moss_step.study.saving import load_study

    study = load_study(asked.study)
    if asked.list:
        for page in study.pages:
            width, height = page.size
            print(f"{page.name}: {width:g} x {height:g} mm{', an atlas' if page.atlas else ''}")
        return
    if asked.out is None:
        raise AskedWronglyError("Where the page goes is not said.", "Write for example -o map.pdf")
    missing = [name for name in _NEEDED if find_spec(name) is None]
    if missing:
        raise MossError(f"Pages are not installed: {', '.join(missing)}.", "pip install 'moss-step[window]'")
    with noting_signals() as noted:
        _write(asked, study, noted)


def _write(asked: argparse.Namespace, study: Study, noted: Noted) -> None:
    from moss_step.desk.sheet.output import check_page_file, write_sheets
    from moss_step.desk.sheet.press import Wanted
    from moss_step.scene.sheet.moment import moment
    from moss_step.scene.sheet.sheet import sheets_of
    from moss_step.study.engine import Engine
    from moss_step.study.hand_on import check_not_a_source

    wanted = Wanted(asked.dpi, asked.archive, asked.stamped)
    check_page_file(asked.out, wanted)
    check_not_a_source(asked.out, [*study.source_files, str(asked.study)])
    make_ready([Out("", asked.out)], asked.overwrite)
    begin_letters()
    engine = Engine()
    if not asked.quiet:
        tell_of_compiling()
    with Bar(asked.quiet) as progress:
        noted.tell(progress.stop)
        page = _page(asked, study, engine, progress)
        now = moment(engine, study, page, progress.part(0.0, 0.6))
        sheets = sheets_of(now, page, asked.study.name, engine.file_hash)
        written = write_sheets(sheets, asked.out, wanted, progress.part(0.6, 1.0))
    for path in written.files:
        remember(path)
    outputs = [str(path) for path in written.files]
    if asked.json:
        said = {"kind": "sheet", "outputs": outputs, "pages": len(sheets), "warnings": written.remarks}
        print(json.dumps(said))
    elif not asked.quiet:
        print("\n".join([*outputs, *(f"  note: {text}" for text in written.remarks)]))


def _page(asked: argparse.Namespace, study: Study, engine: Engine, progress: Progress) -> Page:
    """The page that is asked for: one of the study, or one that a layout makes of a result."""
    from moss_step.scene.sheet.layouts import LAYOUTS, usual_refs
    from moss_step.scene.sheet.moment import moment
    from moss_step.scene.snapshot import Snapshot

    if not asked.layout:
        return study.page(asked.page or "")
    if asked.of and not study.has(asked.of):
        raise AskedWronglyError(
            f"The study has no result '{asked.of}'.", f"It has: {', '.join(study.refs()[:40])}."
        )
    layout, refs = LAYOUTS[asked.layout], usual_refs(study, asked.of)
    name = asked.page or (study.name_of(asked.of) if asked.of else study.name)
    first = layout.page(Snapshot(study, study), name[:80], refs, asked.of)
    return layout.page(moment(engine, study, first, progress.part(0.0, 0.5)), name[:80], refs, asked.of)


def begin_letters() -> None:
    """Make what letters need, without a screen."""
    os.environ["QT_QPA_PLATFORM"] = "offscreen"
    from moss_step.desk.app import make_app

    make_app()


def add_words(own: argparse.ArgumentParser) -> None:
    """Add what may be asked for."""
    own.add_argument("study", type=Path)
    own.add_argument("--page", default="", metavar="NAME", help="name of the page (default: the first one)")
    out = "file of the page: .pdf, .svg, .png or .tif; an atlas is one PDF, or a file a page"
    own.add_argument("-o", "--out", type=Path, metavar="PAGE", help=out)
    own.add_argument("--list", action="store_true", help="list the pages of the study")
    lay = "make the page by a finished layout, of the result that --of names"
    own.add_argument("--layout", choices=_LAYOUTS, default="", help=lay)
    own.add_argument("--of", default="", metavar="RESULT", help="id of the result that a layout shows")
    own.add_argument("--dpi", type=int, default=300, help="pixels an inch of pictures (default: 300)")
    own.add_argument("--archive", action="store_true", help="write PDF/A-1b")
    own.add_argument("--stamped", action="store_true", help="write the time into the PDF")
    own.add_argument("--overwrite", action="store_true", help="replace files of other programs, too")
    own.add_argument("--json", action="store_true", help="print what was written as one JSON object")
    own.add_argument("-q", "--quiet", action="store_true", help="print nothing but errors")
