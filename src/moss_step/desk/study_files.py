"""Opening, saving and leaving studies: the dialogs, and the questions that nothing is lost without."""

from __future__ import annotations

from functools import partial
from pathlib import Path

from PySide6.QtCore import QObject, Signal
from PySide6.QtWidgets import QWidget

from moss_step.demo import DATA
from moss_step.desk.plain import Answer, ask
from moss_step.desk.work import Work
from moss_step.model.errors import MossError
from moss_step.steps.catalogue import opening
from moss_step.study.graph import file_name
from moss_step.study.parcel import ENDING as PARCEL
from moss_step.study.parcel import unpack
from moss_step.study.saving import ENDING


def unpacked(path: Path) -> Path:
    """Unpack a parcel into a folder beside it that is not there yet; gives the file of its study."""
    base = path.name.removesuffix(PARCEL) if path.name.endswith(PARCEL) else path.stem
    names = (base, *(f"{base}-{k}" for k in range(2, 1000)))
    return unpack(path, next(path.with_name(n) for n in names if not path.with_name(n).exists()))


class StudyFiles(QObject):
    """What is done with the files of a window's study."""

    saved = Signal()
    """The study was saved."""

    def __init__(self, work: Work, window: QWidget) -> None:
        super().__init__(window)
        self.work, self._window = work, window

    def ask_open(self) -> None:
        """Ask for files and open them."""
        for path in self.work.folder.ask_open_several(self._window, "Open a grid, shapes or a study"):
            self.open_path(path)

    def open_path(self, path: Path, waits: bool = False) -> None:
        """Open a study (``waits``: with nothing run), or add what a file holds to this one."""
        try:
            if path.suffix.lower() == ENDING:
                if self.may_leave():
                    self.work.open(path, waits=waits)
                return
            if path.suffix.lower() == ".zip":
                if self.may_leave():
                    self.work.open(self.work.files.now(lambda: unpacked(path)), waits=waits)
                return
            for kind, source in self.work.files.now(lambda: opening(path)):
                self.work.add_step(kind, {}, {"source": source})
            self.work.remember(path)
        except MossError as error:
            self.work.message.emit(str(error), True)

    def open_demo(self) -> bool:
        """Open the invented estate as a new study; whether it was."""
        if not self.may_leave():
            return False
        try:
            self.work.open(DATA / "harrow_moss.moss", as_copy=True)
        except MossError as error:
            self.work.message.emit(str(error), True)
            return False
        self.work.choose("classes")
        return True

    def new(self) -> None:
        """Begin an empty study."""
        if self.may_leave():
            self.work.new()

    def save(self) -> bool:
        """Save the study where it is, or ask where."""
        return self.save_to(self.work.path) if self.work.path is not None else self.save_as()

    def save_as(self) -> bool:
        """Ask where, and save the study there."""
        proposal, kinds = file_name(self.work.study.name) + ENDING, f"Moss Step study (*{ENDING})"
        path = self.work.folder.ask_save(self._window, "Save the study", proposal, kinds, ENDING)
        if path is None:
            return False
        return self.save_to(path if path.suffix == ENDING else path.with_name(path.name + ENDING))

    def save_to(self, path: Path) -> bool:
        """Save the study in a file; asks before a newer one is replaced, and tells when it fails."""
        newer = f"{path.name} was changed by another program since it was opened here. Replace it?"
        if (
            self.work.path == path
            and self.work.is_newer(path)
            and ask(self._window, "Newer file", newer, Answer.Yes | Answer.Cancel, Answer.Cancel)
            != Answer.Yes
        ):
            return False
        try:
            self.work.save(path)
        except MossError as error:
            self.work.message.emit(str(error), True)
            return False
        self.work.message.emit(f"Saved in {path.name}.", False)
        self.saved.emit()
        return True

    def may_leave(self) -> bool:
        """Ask about unsaved changes; whether to go on."""
        if not self.work.unsaved:
            return True
        choices = Answer.Save | Answer.Discard | Answer.Cancel
        answer = ask(
            self._window,
            "Unsaved changes",
            f"Save the changes to {self.work.study.name}?",
            choices,
            Answer.Save,
        )
        if answer == Answer.Save:
            return self.save()
        return answer == Answer.Discard

    def offer_recovery(self) -> None:
        """Offer unsaved work of a run that ended badly; whatever the answer, nothing of it is lost."""
        for left in self.work.files.now(self.work.copies.autosave.left_behind):
            answer = ask(
                self._window,
                "Unsaved work found",
                f"'{left.study.name}' with {len(left.study.steps)} steps was not saved when Moss Step "
                "last ended. Take it up again, "
                "without running it? Discard puts it among the old copies, Cancel asks again at the next "
                "start.",
                Answer.Yes | Answer.Discard | Answer.Cancel,
                Answer.Yes,
            )
            if answer == Answer.Yes:
                if self.may_leave():
                    self.work.recover(left)
                return
            if answer == Answer.Discard:
                self.work.files.now(partial(self.work.copies.autosave.retire, left.file))
