"""Writing a page of the Sheet bench: as what, how fine, and where to."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PySide6.QtWidgets import QComboBox, QWidget

from moss_step.desk.controls import PlainSpin
from moss_step.desk.parts import button, close_column, row
from moss_step.desk.plain import set_tip
from moss_step.desk.sheet.output import LEAST_DPI, MOST_DPI, Written, check_page_file, write_sheets
from moss_step.desk.sheet.press import Wanted
from moss_step.desk.work import Work
from moss_step.model.errors import MossError
from moss_step.model.progress import Progress
from moss_step.scene.sheet.moment import wanted_by
from moss_step.scene.sheet.sheet import sheets_of
from moss_step.study.graph import file_name
from moss_step.study.hand_on import check_not_a_source
from moss_step.study.pages import Page

_FILES = "PDF (*.pdf);;SVG (*.svg);;PNG (*.png);;TIFF (*.tif)"


class PageWriter(QWidget):
    """Writes the page that is shown, or all pages of its atlas."""

    def __init__(self, work: Work, page: Callable[[], Page | None]) -> None:
        super().__init__()
        self.work, self._page = work, page
        self.dpi = PlainSpin()
        self.dpi.setRange(LEAST_DPI, MOST_DPI)
        self.dpi.setValue(300)
        self.dpi.setSuffix(" dpi")
        self.dpi.setAccessibleName("Pixels an inch of pictures")
        set_tip(self.dpi, "Pixels an inch of the pictures on the page")
        self.archive = QComboBox()
        self.archive.addItem("PDF", False)
        self.archive.addItem("PDF/A", True)
        self.archive.setAccessibleName("Kind of PDF")
        set_tip(self.archive, "PDF/A-1b holds all that it needs, for archives")
        tip = "PDF, SVG, PNG or TIFF; an atlas with all its pages"
        layout = close_column(self)
        layout.addWidget(row(self.dpi, self.archive, grows=self.dpi))
        layout.addWidget(button("Write the page", tip, self.ask, "main", "file-text"))

    def ask(self) -> None:
        """Ask where the page goes, and write it."""
        page = self._page()
        if page is None:
            return
        path = self.work.folder.ask_save(
            self, "Write the page", f"{file_name(page.name)}.pdf", _FILES, ".pdf"
        )
        if path is not None:
            self.write(path)

    def write(self, path: Path) -> None:
        """Write the page, or all pages of its atlas, beside the window's thread."""
        page, work = self._page(), self.work
        if page is None:
            return
        waiting = [r for r in wanted_by(work.study, page) if work.state(r) in ("waiting", "running")]
        if waiting:
            said = f"'{work.study.name_of(waiting[0])}' is not worked out yet."
            work.message.emit(f"{said} Write the page when it is; F5 runs what waits.", True)
            return
        is_pdf = path.suffix.lower() == ".pdf"
        wanted = Wanted(int(self.dpi.value()), bool(self.archive.currentData()) and is_pdf)
        file = "" if work.path is None else work.path.name
        try:
            check_page_file(path, wanted)
            sheets = sheets_of(work.now, page, file, work.engine.file_hash)
        except MossError as error:
            work.message.emit(str(error), True)
            return
        sources = work.files_read

        def write(progress: Progress) -> Written:
            check_not_a_source(path, sources)
            return write_sheets(sheets, path, wanted, progress)

        work.ask_long(write, self._written)

    def _written(self, answer: Written) -> None:
        more = f" and {len(answer.files) - 1} more" if len(answer.files) > 1 else ""
        said = f" {len(answer.remarks)} remarks stand beside the page." if answer.remarks else ""
        self.work.message.emit(f"Written: {answer.files[0]}{more}.{said}", False)
