"""What the window works on: the study with its history, its results, the chosen step and the step being
made.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import TypeVar

from PySide6.QtCore import QObject, QTimer, Signal

from moss_step.desk.copies import Copies
from moss_step.desk.ear import Ear
from moss_step.desk.first_looks import FirstLooks
from moss_step.desk.folder import Folder
from moss_step.desk.follower import Follower
from moss_step.desk.parts import Later
from moss_step.desk.preferences import Preferences, keep
from moss_step.desk.reading import Reading
from moss_step.desk.recent import Recents
from moss_step.desk.runner import Helper, Lane
from moss_step.desk.shown import Shown
from moss_step.desk.study_place import StudyPlace, read_study
from moss_step.desk.worker import NewestWins
from moss_step.desk.workers import Workers
from moss_step.model.errors import MossError
from moss_step.model.frame import Box, Frame
from moss_step.model.outcome import Outcome
from moss_step.model.progress import Progress
from moss_step.scene.adding import in_key, shaded_with
from moss_step.scene.picture import Picture
from moss_step.scene.snapshot import Snapshot, drawable, frame_of_plan
from moss_step.study.autosave import Autosave, Recovered
from moss_step.study.draft import DRAFT, Draft
from moss_step.study.engine import Engine
from moss_step.study.graph import Step, Study, step_of
from moss_step.study.hand_on import check_not_a_source, hand_on
from moss_step.study.held import Stamp
from moss_step.study.history import History
from moss_step.study.record import lineage
from moss_step.study.shelf import Shelf
from moss_step.study.store import Said

T = TypeVar("T")
LOOK_EVERY = 2000
"""Milliseconds between two looks at the source files, outside the window's thread."""


class Work(QObject):
    """The single thing that all parts of the window read and change."""

    changed = Signal()
    """The study, its name or its place changed."""
    results = Signal()
    """A result, a failure or a picture came or went."""
    chosen = Signal()
    """Another step was chosen."""
    drafted = Signal()
    """The step being made changed."""
    running = Signal(str, float, str, float)
    """Step id, fraction, what is done, seconds left (-1 unknown)."""
    idle = Signal()
    """Nothing runs any more."""
    _moved = Signal()
    published = Signal()
    """``now`` is another moment: all that shows the work compares itself with it."""
    message = Signal(str, bool)
    """Something to tell the person; whether it is bad."""

    def __init__(
        self,
        engine: Engine | None = None,
        autosave: Autosave | None = None,
        preferences: Preferences | None = None,
    ) -> None:
        super().__init__()
        self._now: Snapshot | None = None
        self.shown = Shown(self)
        self.shown.changed.connect(self.results)
        self.shown.wanted.connect(self._on_wanted)
        self._publish_later = Later(self.published.emit, self)
        for signal in (self.changed, self.results, self.chosen, self.drafted):
            signal.connect(self._on_moved_on)
        self.preferences = preferences or Preferences()
        self.workers = Workers(lambda: self.preferences, self)
        self.engine = engine or Engine(shelf=Shelf(), in_tiles=self.workers.in_tiles)
        self.history = History(Study())
        self.chosen_ref = ""
        self.draft: Draft | None = None
        self._saved = self.history.study
        self._with_draft: tuple[tuple[Study, Draft] | None, Study] = (None, self.history.study)
        autosave = autosave or Autosave()
        self._waits = self._closed = False
        self.in_view: Box | None = None
        self.folder = Folder()
        self._first = FirstLooks(self.engine)
        self._reading = Reading(self.engine, self._first, self)
        self._reading.wanted.connect(self._start)
        self._main, self._side = (
            Lane(self.engine, self, look=self._first.taste, take=self._first.take),
            Lane(
                self.engine,
                self,
                passing=(DRAFT,),
                look=lambda study, progress: self._first.look_at_view(study, self.in_view, progress),
            ),
        )
        self.helper, self.follower = Helper(self), Follower(self)
        self.files = Helper(self)
        self._place = StudyPlace(self.files, autosave.folder.parent, self)
        self._place.shared.connect(self.message)
        self.ear = Ear(self.files, self)
        self.helper.moved.connect(lambda fraction, doing: self.running.emit("", fraction, doing, -1.0))
        self.helper.rests.connect(lambda: None if self._main.busy or self._side.busy else self.idle.emit())
        self.recents = Recents(self.files, self)
        self.recents.failed.connect(self.message)
        self._sources: NewestWins[Study] = NewestWins(self._look_at_sources, lambda *_: None)
        self._moved.connect(self._start)
        self._watch = QTimer(self, interval=LOOK_EVERY)
        self._watch.timeout.connect(lambda: self._sources.wish(self.study))
        self._watch.start()
        for lane in (self._main, self._side):
            lane.moved.connect(self.running)
            lane.began.connect(self._on_began)
            lane.ended.connect(self._on_ended)
        self.copies = Copies(
            autosave, self.files, lambda: (self.study, self.path) if self.unsaved else None, self
        )
        self.copies.failed.connect(self.message)
        self._follow_preferences(self.preferences)

    @property
    def study(self) -> Study:
        """The current study."""
        return self.history.study

    @property
    def path(self) -> Path | None:
        """The file of the study; None where it has none yet."""
        return self._place.path

    @property
    def files_read(self) -> list[str]:
        """The files that the study is made of, and its own: nothing is written over them."""
        study = self.study_with_draft
        return [*study.source_files, *study.pictures, *([str(self.path)] if self.path is not None else [])]

    @property
    def chosen_id(self) -> str:
        """Id of the chosen step; ``chosen_ref`` says which of its results is looked at."""
        return step_of(self.chosen_ref)

    @property
    def unsaved(self) -> bool:
        """Whether there are changes that no study file holds."""
        return self.study != self._saved

    @property
    def busy(self) -> bool:
        """Whether something runs."""
        return (
            self._main.busy
            or self._side.busy
            or self.helper.waiting > 0
            or self.files.waiting > 0
            or self.follower.busy
        )

    # --- preferences

    def prefer(self, **changes: object) -> None:
        """Prefer something else from now on, and keep that."""
        preferences = Preferences.model_validate({**self.preferences.model_dump(), **changes})
        self._follow_preferences(preferences)

        def tell(answer: MossError | None) -> None:
            if answer is not None:
                self.message.emit(str(answer), True)

        self.files.ask(lambda: keep(preferences), tell)

    def _follow_preferences(self, preferences: Preferences) -> None:
        self.preferences = preferences
        self.engine.store.gigabytes = preferences.gigabytes
        self.copies.timer.setInterval(round(1000 * preferences.copy_after))

    # --- changing the study

    def do(self, study: Study, what: str, join: bool = False) -> None:
        """Make a change that can be undone; what follows from it runs at once."""
        self.history.do(study, what, join)
        self._after_change()

    def undo(self) -> None:
        """Take the last change back."""
        self.history.undo()
        self._after_change()

    def redo(self) -> None:
        """Do again what was taken back."""
        self.history.redo()
        self._after_change()

    def add_step(
        self,
        kind: str,
        inputs: dict[str, str],
        settings: dict[str, object],
        name: str = "",
        choose: bool = True,
    ) -> str:
        """Keep a new step, draw its result and choose it; gives its id."""
        step = Step(id=self.study.fresh_id(kind), kind=kind, inputs=inputs, settings=settings, name=name)
        study, added = self.study.adding_plan(step)
        study = shaded_with(in_key(study, added), step, added)
        self.history.do(study, f"Add {step.declared.title.lower()}")
        self.chosen_ref = added if choose else self.chosen_ref
        self._after_change()
        if choose:
            self.chosen.emit()
        return added

    def keep_draft(self) -> str:
        """Make the draft a step of the study, or change the step that it replaces; gives its id."""
        draft = self.draft
        if draft is None:
            return ""
        self.draft = None
        if draft.replaces:
            step, before = draft.step, self.study.step(draft.replaces)
            self.do(
                self.study.changing(
                    draft.replaces,
                    lambda s: s.model_copy(update={"inputs": step.inputs, "settings": step.settings}),
                ),
                f"Change {self.study.name_of(draft.replaces)}",
            )
            self.choose(draft.replaces)
            if step.settings.get("unit") != before.settings.get("unit"):
                self._warn_of_bounds(draft.replaces)
            return draft.replaces
        kept = self.add_step(draft.step.kind, dict(draft.step.inputs), dict(draft.step.settings))
        self.drafted.emit()
        return kept

    def _warn_of_bounds(self, step_id: str) -> None:
        """Say which steps hold bounds that were meant in another unit."""
        bounded = ", ".join(self.study.name_of(i) for i in self.study.bounded_by(step_id))
        if bounded:
            said = f"The unit is another now, and the bounds of {bounded} stay as they were typed."
            self.message.emit(f"{said} Change them, or take it back with Ctrl+Z.", True)

    def set_draft(self, step: Step | None, replaces: str = "") -> None:
        """Show a step that is not kept yet; None ends that."""
        if self._closed:
            return
        draft = None if step is None else Draft(step.model_copy(update={"id": DRAFT}), replaces)
        if draft == self.draft:
            return
        self.draft = draft
        self._first.drop_draft()
        if draft is not None and not self._waits:
            self._reading.forget()
            study = self.study.adding(draft.step)
            usual = [ref for ref in study.step(DRAFT).refs if not study.result(ref).asked]
            self._side.wish(study, usual, usual)
        self.drafted.emit()

    def choose(self, ref: str) -> None:
        """Choose a step, or one of its results: its bench shows it."""
        if ref != self.chosen_ref or (ref and self.draft is not None):
            self.chosen_ref = ref
            self._reading.forget()
            self.chosen.emit()
            if ref and self.said(ref) is None:
                self._start()  # it may be one that is worked out only when it is asked for

    def rename(self, ref: str, name: str) -> None:
        """Give a result a name; an empty one makes it name itself again."""
        self.do(self.study.renaming(ref, name.strip()), "Rename")

    def duplicate(self, step_id: str) -> None:
        """Add a copy of a step."""
        study, fresh = self.study.duplicating(step_id)
        self.do(in_key(study, fresh), "Duplicate")
        self.choose(fresh)

    def remove(self, step_id: str) -> None:
        """Remove a step and all that depends on it."""
        name, after = self.study.name_of(step_id), len(self.study.followers(step_id))
        self.do(self.study.removing(step_id), f"Remove {name}")
        if after:
            steps = f"{after} step{'s' if after > 1 else ''} that needed it"
            self.message.emit(f"Removed {name} and {steps}. Ctrl+Z brings all back.", False)

    def run(self) -> None:
        """Run whatever waits; failed steps are tried again."""
        self._waits = False
        self.engine.forget_failures()
        self._start()

    def stop(self) -> None:
        """Stop all that runs."""
        self._main.stop()
        self._side.stop()
        self.helper.stop()

    # --- reading results

    @property
    def study_with_draft(self) -> Study:
        """The study with the step being made, under the id ``draft``."""
        if self.draft is None:
            return self.study
        result = (self.study, self.draft)
        last = self._with_draft[0]
        if last is None or last[0] is not result[0] or last[1] is not result[1]:
            self._with_draft = (result, self.study.adding(self.draft.step))
        return self._with_draft[1]

    def outcome(self, ref: str) -> Outcome | None:
        """A result (or that of the draft) when it is up to date and in memory; one that was let go is
        fetched.
        """
        return self._reading.outcome(self.study_with_draft, ref)

    def said(self, ref: str) -> Said | None:
        """What a result says of itself when it is up to date, whether its value is in memory or not."""
        return self.now.said.get(ref)

    def picture(self, ref: str) -> Picture | None:
        """Picture of a result when it is made."""
        return self._reading.picture(self.study_with_draft, ref, not self.busy)

    def state(self, ref: str) -> str:
        """State of a result: done, waiting, running or failed."""
        return self.now.state(ref)

    def reason(self, ref: str) -> str:
        """Why there is no such result; empty when it did not fail."""
        failed = self.now.failures.get(ref)
        return failed.on_screen if failed else ""

    def missing_source(self, ref: str) -> str:
        """The source file that a failed step did not find; empty otherwise."""
        failed = self.now.failures.get(ref)
        return failed.missing_source if failed else ""

    @property
    def frame(self) -> Frame | None:
        """Frame that the plan is drawn in: that of the shaded ground, or of the first grid there is."""
        return self.now.frame

    # --- what is shown

    @property
    def now(self) -> Snapshot:
        """This moment, as it is shown: worked out once a change, whoever asks."""
        if self._now is None:
            self._now = self._snapshot()
        return self._now

    def _snapshot(self) -> Snapshot:
        study, whole, engine = self.study, self.study_with_draft, self.engine
        said = {ref: s for ref, s in engine.all_said(whole).items() if s is not None}
        compared = self.shown.compared(study)
        partly = self.draft is not None and DRAFT not in said and self._first.of_draft(whole) is not None
        pictures = {
            ref: p
            for ref in drawable(study, self.chosen_ref, self.draft, (*compared, *self.shown.on_page(study)))
            if (p := self.picture(ref)) is not None
        }
        running = frozenset(filter(None, (self._main.running_step, self._side.running_step)))
        failures = engine.failures(whole, [ref for ref in whole.refs() if ref not in said])
        # What is being read already has a place, though its step has not ended.
        looks = {ref: p.value for ref, p in pictures.items() if ref not in said}
        frame = frame_of_plan(
            study, self.chosen_ref, lambda ref: self._reading.value(study, ref, looks.get(ref))
        )
        return Snapshot(
            study, whole, self.draft, self.chosen_ref, frame, said, failures, running, pictures,
            self.shown.all, compared, partly,
        )  # fmt: skip

    def _on_moved_on(self) -> None:
        self._now = None
        self._publish_later.ask()

    # --- files

    def new(self) -> None:
        """Begin an empty study."""
        self._replace(Study(), None, None)

    def open(self, path: Path, as_copy: bool = False, waits: bool = False) -> None:
        """Open a study file; ``as_copy`` leaves the file out of it, as for the demo, and ``waits`` runs
        nothing until that is asked for.

        A large one is there a little later. Raises MossError when it cannot be read; the current study stays
        then.
        """
        if self._place.is_large(path):
            self.files.ask(
                lambda: self._read(path), lambda result: self._opened(result, path, as_copy, waits)
            )
        else:
            self._opened(self.files.now(lambda: self._read(path)), path, as_copy, waits)

    def _read(self, path: Path) -> tuple[Study, Stamp]:
        study, stamp = read_study(path)
        self.engine.prepare(study)
        return study, stamp

    def _opened(
        self, result: tuple[Study, Stamp] | MossError, path: Path, as_copy: bool, waits: bool
    ) -> None:
        if isinstance(result, MossError):
            self.message.emit(str(result), True)
            return
        study, stamp = result
        self._replace(study, None if as_copy else path, stamp, waits)
        if not as_copy:
            self.remember(path)
        if waits:
            self.message.emit("Nothing was run. F5 runs the study.", False)

    def recover(self, left: Recovered) -> None:
        """Take up unsaved work of an earlier run; nothing is run, and its copy stays until the work is
        saved.
        """
        self._replace(left.study, left.saved_as, self._place.stamp(left.saved_as), waits=True)
        self._saved = Study()
        self.changed.emit()
        self.copies.take_up(left.file)
        self.message.emit("Taken up again. Nothing was run: F5 runs the study.", False)

    def is_newer(self, path: Path) -> bool:
        """Whether a study file is another than the one that was read or saved last: somebody else wrote
        it.
        """
        return self._place.is_newer(path)

    def remember(self, path: Path) -> None:
        """Put a file at the head of those used lately."""
        self.folder.path = path.parent
        self.recents.remember(path)

    def ask_long(self, question: Callable[[Progress], T], then: Callable[[T], object]) -> None:
        """Work something out beside the window's thread that is told of and can be stopped; the person is
        told where it is refused.
        """

        def take(answer: T | MossError) -> None:
            if isinstance(answer, MossError):
                self.message.emit(str(answer), True)
            else:
                then(answer)

        self.helper.ask_long(question, take)

    def write(self, write: Callable[[], object], path: Path) -> None:
        """Write a file, which is none that the study is made of, in the files' thread; the person is told
        when it is there, or why it is not.
        """
        read = self.files_read

        def checked() -> None:
            check_not_a_source(path, read)
            write()

        def tell(answer: object) -> None:
            bad = isinstance(answer, MossError)
            self.message.emit(str(answer) if bad else f"Written: {path}", bad)

        self.files.ask(checked, tell)

    def hand_on(self, ref: str, path: Path) -> bool:
        """Write a result, or one of the step being made, in the format of the ending, with its lineage; tells
        whether it is there to be written.
        """
        study, engine, outcome = self.study_with_draft, self.engine, self.outcome(ref)
        if outcome is None:
            return False
        name = study.name_of(ref)

        self.write(lambda: hand_on(replace(outcome, lineage=lineage(study, ref, engine)), name, path), path)
        return True

    def save(self, path: Path) -> None:
        """Save the study.

        Raises MossError when it cannot be written; an older file stays as it was.
        """
        study = self.study
        if study.name in ("", Study().name):
            study = study.model_copy(update={"name": path.stem.replace("_", " ").strip().capitalize()})
            self.history.do(study, "Save")
        self._place.save(study, path)
        self._saved = study
        self.copies.timer.stop()
        self.copies.forget()
        self.remember(path)
        self.changed.emit()

    def close(self, forget: bool = True) -> None:
        """End the threads; the autosave goes among the old copies unless the work is to be found again."""
        if self._closed:
            return
        self._closed, self.draft = True, None  # a press may still be on its way
        self.copies.timer.stop()
        self._watch.stop()
        self.ear.close()
        self._main.close()
        self._side.close()
        self.helper.close()
        self.follower.close()
        self.engine.close()
        self._sources.close()
        if forget:
            self.copies.forget()
        self._place.let_go()
        self.files.close(forget=False)

    def _look_at_sources(self, study: Study) -> None:
        if self.engine.look(study, [s.id for s in study.steps]):
            self._moved.emit()

    def _replace(self, study: Study, path: Path | None, stamp: Stamp, waits: bool = False) -> None:
        self.stop()
        self.history, self._saved, self._waits = History(study), study, waits
        self.chosen_ref, self.draft = "", None
        self.copies.forget()
        self._first.clear()
        self._reading.forget()
        self.engine.keep_only(study)
        self._place.move(path, stamp)
        self.changed.emit()
        self.chosen.emit()
        self.drafted.emit()
        self._start()

    def _after_change(self) -> None:
        if self._closed:
            return
        if self.chosen_ref and not self.study.has(self.chosen_ref):
            self.chosen_ref = ""
            self.chosen.emit()
        if self.draft is not None and not self._stands(self.draft):
            self.set_draft(None)
        self.copies.soon()
        self._reading.forget()
        self.changed.emit()
        self._start()

    def _stands(self, draft: Draft) -> bool:
        """Whether all that a step being made works from is still there."""
        held = self.study
        return all(held.has(ref) for ref in draft.step.inputs.values()) and (
            not draft.replaces or held.has(draft.replaces)
        )

    def _start(self) -> None:
        if self._waits:
            return
        targets = self.study.refs(asked=False)
        if self.chosen_ref and self.chosen_ref not in targets:
            targets.append(self.chosen_ref)
        targets += [ref for ref in self.shown.on_page(self.study) if ref not in targets]
        if targets:
            self._main.wish(self.study, targets, self._reading.fetched)

    def _on_wanted(self) -> None:
        self._reading.forget()
        self._start()

    def _on_began(self, step_id: str) -> None:
        self.running.emit(step_id, 0.0, "", -1.0)
        self.results.emit()

    def _on_ended(self) -> None:
        self.results.emit()
        if not (self._main.busy or self._side.busy):
            self.idle.emit()
