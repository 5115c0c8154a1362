"""The study as a whole on the Sheet bench: as a parcel, as a script, and its lineage."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtWidgets import QCheckBox, QVBoxLayout, QWidget

from moss_step.desk.parts import button, label, line, scrolled
from moss_step.desk.plain import set_tip
from moss_step.desk.sheet.output import write_sheets
from moss_step.desk.work import Work
from moss_step.formats.whole import write_text
from moss_step.model.progress import Progress
from moss_step.scene.sheet.layouts import trail_page
from moss_step.scene.sheet.sheet import Sheet
from moss_step.study.graph import file_name
from moss_step.study.hand_on import check_not_a_source
from moss_step.study.parcel import ENDING, Checked, Manifest, check_parcel, pack
from moss_step.study.prov import as_prov
from moss_step.study.script import script_of

_SCRIPTS = "Python (*.py);;Shell (*.sh)"
_LINEAGE = "W3C PROV (*.json);;Picture of the trail (*.svg *.pdf *.png)"


class StudyPanel(QWidget):
    """Packs the study, checks a parcel, and writes scripts and lineage."""

    def __init__(self, work: Work) -> None:
        super().__init__()
        self.work = work
        self.with_sources = QCheckBox("With its sources")
        self.with_sources.setChecked(True)
        set_tip(self.with_sources, "Without them the parcel holds their hashes only")
        self.with_results = QCheckBox("With its results")
        set_tip(self.with_results, "Every result in an open format, too")
        body = QWidget()
        layout = QVBoxLayout(body)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(9)
        said = "A parcel is one file: the study, its sources, and a manifest of checksums and figures."
        for part in (
            label("For a colleague", "head"),
            label(said, "muted", wrap=True),
            self.with_sources,
            self.with_results,
            button("Pack the study", "As one zip that opens anywhere", self.ask_pack, "main", "floppy-disk"),
            button(
                "Check a parcel",
                "Run one anew, and compare every figure with what it was",
                self.ask_check,
                picture="check-circle",
            ),
            line(),
            label("For a machine", "head"),
            button(
                "The study as a script",
                "Python, or shell commands, that give the same",
                self.ask_script,
                picture="file-text",
            ),
            line(),
            label("For whoever asks how", "head"),
            button(
                "Lineage of the study",
                "As JSON of W3C PROV, or as a picture of the trail",
                self.ask_lineage,
                picture="file-text",
            ),
        ):
            layout.addWidget(part)
        layout.addStretch(1)
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.addWidget(scrolled(body))

    def _ask_save(self, title: str, ending: str, kinds: str) -> Path | None:
        return self.work.folder.ask_save(self, title, file_name(self.work.study.name) + ending, kinds, ending)

    # --- parcels

    def ask_pack(self) -> None:
        """Ask where the parcel goes, and pack the study."""
        path = self._ask_save("Pack the study", ENDING, f"Parcel (*{ENDING})")
        if path is not None:
            self.pack(path)

    def pack(self, path: Path) -> None:
        """Pack the study, beside the window's thread."""
        work, study = self.work, self.work.study
        sources, results = self.with_sources.isChecked(), self.with_results.isChecked()

        def tell(answer: Manifest) -> None:
            failed = f" {len(answer.failed)} results could not be worked out." if answer.failed else ""
            held = f"{len(answer.sources)} sources, {len(answer.figures)} figures"
            work.message.emit(f"Written: {path} ({held}).{failed}", bool(failed))

        work.ask_long(lambda p: pack(study, path, work.engine, sources, results, p), tell)

    def ask_check(self) -> None:
        """Ask for a parcel, and check it."""
        path = self.work.folder.ask_open(self, "Check a parcel", f"Parcel (*{ENDING} *.zip)")
        if path is not None:
            self.check(path)

    def check(self, path: Path) -> None:
        """Run a parcel anew, beside the window's thread, and say what differs."""
        work = self.work

        def tell(answer: Checked) -> None:
            if answer.is_same:
                work.message.emit(f"{path.name}: {answer.same:,} figures, all the same.", False)
            else:
                lines = [*answer.differing, *answer.missing]
                more = f" and {len(lines) - 4} more" if len(lines) > 4 else ""
                work.message.emit(f"{path.name} does not give the same. {'; '.join(lines[:4])}{more}.", True)

        work.ask_long(lambda progress: check_parcel(path, None, progress), tell)

    # --- scripts and lineage

    def ask_script(self) -> None:
        """Ask where the script goes, and write it."""
        path = self._ask_save("The study as a script", ".py", _SCRIPTS)
        if path is not None:
            self.write_script(path)

    def write_script(self, path: Path) -> None:
        """Write the study as a script; the ending says of which kind."""
        study = self.work.study
        if path.suffix.lower() not in (".py", ".sh"):
            self.work.message.emit(
                f"A script cannot be written as '{path.name}'. End it in .py or .sh.", True
            )
            return
        self.work.write(lambda: write_text(path, script_of(study, path)), path)

    def ask_lineage(self) -> None:
        """Ask where the lineage goes, and write it."""
        path = self._ask_save("Lineage of the study", ".json", _LINEAGE)
        if path is not None:
            self.write_lineage(path)

    def write_lineage(self, path: Path) -> None:
        """Write the lineage of the study: as PROV, or as a picture of its trail."""
        work, study, now = self.work, self.work.study, self.work.now
        if path.suffix.lower() == ".json":
            work.write(lambda: write_text(path, as_prov(study, study.refs(asked=False), work.engine)), path)
            return
        sheet = Sheet(now, trail_page(study, ()), digest=work.engine.file_hash)

        read = work.files_read

        def write(progress: Progress) -> object:
            check_not_a_source(path, read)
            return write_sheets([sheet], path, None, progress)

        work.ask_long(write, lambda _: work.message.emit(f"Written: {path}", False))
