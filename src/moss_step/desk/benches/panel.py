"""The panel of one step: its question, inputs, settings, figures and one main action, made from its
declaration.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from pathlib import Path
from typing import Any

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QComboBox, QVBoxLayout, QWidget

from moss_step.desk.benches.further import FurtherInputs
from moss_step.desk.controls import TextControl
from moss_step.desk.form import Form
from moss_step.desk.parts import Facts, Later, More, Note, Snug, button, column, label, row, tool
from moss_step.desk.plain import set_tip
from moss_step.desk.plan.tools.box import BoxTool
from moss_step.desk.plan.tools.line import Line
from moss_step.desk.plan.tools.tool import Place
from moss_step.desk.work import Work
from moss_step.model.errors import MossError
from moss_step.model.findings import Finding
from moss_step.model.frame import Box
from moss_step.model.outcome import Outcome
from moss_step.model.shapes import Shapes
from moss_step.model.telling import Telling, finding_text
from moss_step.steps.declare import InputSpec, StepKind, plain
from moss_step.study.draft import DRAFT
from moss_step.study.graph import Step, Study, step_of
from moss_step.study.store import Said

RECORD = "Hand on the record: text, CSV or shapes"
_RECORD_FILES = "CSV, text, GeoPackage, GeoJSON (*.csv *.txt *.gpkg *.geojson)"
_HELP_HEIGHT, LEAST_FIGURES = 34, 56
_MOST_OF_SEVERAL = 12
"""Numbers of classes, observers or places that are listed in a panel; the table has them all."""


class StepPanel(QWidget):
    """Makes a new step of a kind, or changes one; what it says is drawn on the plan while it is being set.

    ``foot`` holds its figures and the buttons that keep or drop it; the bench puts it where it is always in
    view.
    """

    live = Signal(object)
    """What to draw on the plan while the pointer or a slider moves, or None."""
    handles = Signal(object)
    """Places on the plan that can be dragged."""
    tool_wanted = Signal(object)
    """A tool for the plan; None for the one at rest."""
    step_wanted = Signal(str, object)
    """A new step of a kind is to be begun, at a place of the plan or None."""
    section = Signal(object)
    """What to show in the section while that is open."""
    section_wanted = Signal()
    """The section is to be opened."""
    cuts = False
    """Whether a line that is drawn for the section belongs to the panel."""
    place_wanted = Signal(float, float)
    """A place is to be shown in the middle of the plan."""
    drawer_wanted = Signal(object)
    """A part of the panel that needs room is to be shown below the plan; None ends that."""
    closed = Signal()
    goes_on = False
    """Whether it stays as it is when its own step is chosen: it keeps every change at once."""
    facts_first = False
    """Whether figures and remarks stand above the settings."""

    def __init__(self, work: Work, kind: StepKind, step_id: str = "") -> None:
        super().__init__()
        self.work, self.kind, self.step_id = work, kind, step_id
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(8)
        self._inputs = {spec.name: self._input(spec) for spec in kind.inputs}
        self._rows: dict[str, QWidget] = {}
        self.more = More()
        for spec in kind.inputs:
            title = label(spec.title)
            set_tip(title, spec.help)
            box = self._inputs[spec.name]
            self._rows[spec.name] = holder = row(title, box, gap=10, grows=box)
            if spec.more:
                self.more.add(holder)
            else:
                layout.addWidget(holder)
        self.note, self.facts = Note(), Facts()
        said = column([self.facts, self.note], gap=6)
        if self.facts_first:
            layout.addWidget(said)
        self.further = self._further_inputs()
        if self.further is not None:
            layout.addWidget(self.further)
        self.build(layout)
        layout.addWidget(self.more)
        self.keep_button = button(
            "Apply the change" if step_id else "Keep this step", "Ctrl+Return", self.keep, role="main"
        )
        self.keep_button.setShortcut("Ctrl+Return")
        self.drop_button = button(
            "Leave as it was" if step_id else "Not now", "Escape: forget what is set here", self.drop
        )
        layout.addStretch(1)
        self.help = label(kind.help, "muted", wrap=True)
        self.help.setAccessibleName("What the setting means")
        self.help.setMinimumHeight(_HELP_HEIGHT)
        self.help.setAlignment(Qt.AlignmentFlag.AlignTop)
        self.record_button = tool("download-simple", RECORD, self.ask_record)
        self.record_button.setVisible(kind.records)
        action = row(self.keep_button, self.drop_button, 1, self.record_button)
        self.figures = None if self.facts_first else Snug(said, LEAST_FIGURES)
        self.foot = column([self.help, *([self.figures] if self.figures else []), action])
        self._left = False
        self._stored: dict[str, Any] = {}
        self.load()
        later = Later(self._look_again, self, after=8)
        work.published.connect(later.ask)
        work.changed.connect(self._refill_inputs)

    def _look_again(self) -> None:
        """Show what has become of the step; one that is gone has its panel for a moment longer."""
        if not self.step_id or self.work.study.has(self.step_id):
            self._take_over()
            self.show_outcome()

    def _take_over(self) -> None:
        """Settings that were changed elsewhere, such as names typed into the table or by undo, are shown
        here: the next change of the panel must not put them back.
        """
        if not self.step_id or self._left:
            return
        stored = dict(self.work.study.step(self.step_id).settings)
        changed = {n for n in stored.keys() | self._stored.keys() if stored.get(n) != self._stored.get(n)}
        self._stored = stored
        if changed:
            self.show_settings(changed, self.kind.checked(stored).model_dump())

    def show_settings(self, names: Collection[str], values: Mapping[str, Any]) -> None:
        """Show some settings as they are now, and leave the others as they stand."""
        self.form.show_some(names, values)

    # --- parts that a bench may replace

    def build(self, layout: QVBoxLayout) -> None:
        """Add the settings."""
        self.form = Form(self.kind.settings, self.more, folder=self.work.folder)
        self.form.changed.connect(self.update_draft)
        self.form.helped.connect(self._say_help)
        self.form.place_shown.connect(self.place_wanted)
        self.form.box_wanted.connect(self._draw_box)
        self.form.view_wanted.connect(self._use_view)
        layout.addWidget(self.form)

    def use_inputs(self, names: Iterable[str]) -> None:
        """Say to the settings which inputs are given: some count only with or without one."""
        self.form.use_inputs(names)

    def load_settings(self, settings: dict[str, Any]) -> None:
        """Show settings."""
        self.form.set_values(self.kind.checked(settings).model_dump() if settings else {}, self.kind.settings)

    def settings(self) -> dict[str, Any]:
        """Settings as they are set now."""
        return self.form.values()

    def fact_rows(self, outcome: Outcome) -> list[tuple[str, str]]:
        """Figures of the result in words."""
        return finding_rows(outcome.findings, self.work.study.telling)

    def _say_help(self, text: str) -> None:
        self.help.setText(text or self.kind.help)

    def _count_more(self) -> None:
        """Say how many of what is folded away is not as it is at first."""
        inputs = sum(spec.more and bool(self._inputs[spec.name].currentData()) for spec in self.kind.inputs)
        self.more.say(inputs + (self.form.changed_in_more if hasattr(self, "form") else 0))

    # --- loading and drafting

    def load(self) -> None:
        """Show the step's inputs and settings, or what a new one begins with."""
        stored = self.work.study.step(self.step_id) if self.step_id else None
        self._stored = dict(stored.settings) if stored else {}
        for spec in self.kind.inputs:
            self._fill_input(spec, stored.inputs.get(spec.name, "") if stored else "")
        if self.further is not None:
            self.further.show_choices(self.fitting(self.kind.further), dict(stored.inputs) if stored else {})
        self.load_settings(dict(stored.settings) if stored else {})
        if not self.step_id:
            self.update_draft()
        else:
            self.show_outcome()

    # --- the plan

    def show_places(self) -> None:
        """Show on the plan what is set."""

    def arm(self) -> None:
        """Take the tool that a new step of the kind begins with, if there is one."""

    def follow(self, place: Place | None) -> None:
        """The pointer stands at a place of the plan, or left it."""

    def use_point(self, x: float, y: float) -> bool:
        """Take a place that was clicked; tells whether it was wanted."""
        return False

    def use_row(self, ref: str, row: int) -> bool:
        """Take a point of a cloud that was clicked; tells whether it was wanted."""
        return False

    def drag_handle(self, number: int, x: float, y: float, ended: bool) -> None:
        """A handle on the plan is dragged, or was let go."""

    def pull_line(self, line: Line) -> None:
        """A line is being pulled."""

    def use_line(self, line: Line) -> None:
        """Take a line that was drawn."""

    def _draw_box(self) -> None:
        tool = BoxTool()
        tool.result.connect(self.use_box)
        self.tool_wanted.emit(tool)

    def _use_view(self) -> None:
        """Take the part of the ground that the plan shows."""
        frame, view = self.work.frame, self.work.in_view
        if frame is None or view is None:
            return
        box = (
            max(view[0], frame.box[0]),
            max(view[1], frame.box[1]),
            min(view[2], frame.box[2]),
            min(view[3], frame.box[3]),
        )
        self.use_box(box)

    def use_box(self, box: Box) -> None:
        """Take a box that was drawn on the plan."""
        self.form.control("box", TextControl).fill(self.rounded(*box))

    def rounded(self, *coordinates: float) -> tuple[float, ...]:
        """Coordinates from the plan without digits that mean nothing on the ground that is shown."""
        frame = self.work.frame
        return coordinates if frame is None else frame.rounded(*coordinates)

    def update_draft(self) -> None:
        """Hand the step as it is set now to the plan; say what is wrong with it instead when something is."""
        step, wrong = self.step_as_set()
        if step is None:
            self.work.set_draft(None)
            self.note.show_lines(wrong, bad=True)
            self.keep_button.setEnabled(False)
            return
        stored = self.work.study.step(self.step_id) if self.step_id else None
        same = stored is not None and stored.inputs == step.inputs and self._same_settings(stored, step)
        self.work.set_draft(None if same else step, self.step_id)
        self.show_outcome()

    def step_as_set(self) -> tuple[Step | None, str]:
        """The step as it is set now, or None and what is missing or wrong."""
        inputs = {n: str(b.currentData()) for n, b in self._inputs.items() if b.currentData()}
        self.use_inputs(inputs)
        if self.further is not None:
            inputs |= self.further.inputs(str(self.settings().get("expression", "")))
        for spec in self.kind.inputs:
            if spec.name not in inputs and not spec.optional:
                return None, f"No {spec.title.lower()} to work from yet. Open one in Gather."
        try:
            settings = plain(self.kind.checked(self.settings()))
        except MossError as error:
            return None, error.on_screen(self.kind.words_of)
        return Step(id=DRAFT, kind=self.kind.kind, inputs=inputs, settings=settings), ""

    def show_outcome(self) -> None:
        """Show figures and remarks of the result as it stands."""
        if self._left:
            return
        self._count_more()
        study, chosen = self.work.study_with_draft, self.work.chosen_ref
        target = DRAFT if self.work.draft else chosen if step_of(chosen) == self.step_id else self.step_id
        if not target or not study.has(target) or study.step(target).kind != self.kind.kind:
            return
        outcome, reason = self.work.outcome(target), self.work.reason(target)
        self.keep_button.setEnabled(self.work.draft is not None and not reason)
        self.drop_button.setVisible(not self.step_id or self.work.draft is not None)
        if reason:
            self.note.show_lines(reason, bad=True)
        elif outcome is None:
            self.note.show_lines("Working …")
        else:
            self.facts.show_rows(self.fact_rows(outcome))
            self.show_remarks(outcome)

    def show_remarks(self, outcome: Outcome) -> None:
        """Show the remarks of a result."""
        self.note.show_lines("", outcome.warnings)

    def keep(self) -> None:
        """Keep the step, or the change."""
        if self.work.draft is not None and self.keep_button.isEnabled():
            self.work.keep_draft()

    def drop(self) -> None:
        """Forget what is set here."""
        self.work.set_draft(None)
        if self.step_id:
            self.load()
        else:
            self.closed.emit()

    def ask_record(self) -> None:
        """Ask where the record goes, and write it: as text, CSV, or shapes with all figures."""
        path = self.work.folder.ask_save(self, RECORD, "record.csv", _RECORD_FILES, ".csv")
        if path is not None:
            self.write_record(path)

    def write_record(self, path: Path) -> None:
        """Write the record of what is shown; the ending says in which form."""
        target = DRAFT if self.work.draft else self.step_id
        if not self.work.hand_on(f"{target}.{self.kind.record_for(path.suffix.lower())}", path):
            self.work.message.emit("There is no result yet: nothing is to be recorded.", True)

    # --- inputs

    def _input(self, spec: InputSpec) -> QComboBox:
        box = QComboBox()
        box.setAccessibleName(spec.title)
        set_tip(box, spec.help)
        box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        box.setMinimumContentsLength(10)
        box.currentIndexChanged.connect(lambda _: self.update_draft())
        return box

    def take_inputs(self, inputs: Mapping[str, str]) -> None:
        """Work from some results, by the names of the inputs."""
        for name, ref in inputs.items():
            box = self._inputs[name]
            box.blockSignals(True)
            box.setCurrentIndex(max(box.findData(ref), 0))
            box.blockSignals(False)
        self.update_draft()

    def leave(self) -> None:
        """Follow the work no more: another panel takes this one's place."""
        self._left = True
        self.drawer_wanted.emit(None)
        self.blockSignals(True)

    def fitting(self, spec: InputSpec | None) -> list[tuple[str, str]]:
        """Results that can be an input, with their names."""
        if spec is None:
            return []
        study = self.work.study
        barred = {self.step_id, *study.followers(self.step_id)} if self.step_id else set()
        said = self.work.now.said
        free = [ref for step in study.steps if step.id not in barred for ref in step.refs]
        fitting = [ref for ref in free if _fits(spec, study, ref, said.get(ref))]
        return [(ref, study.name_of(ref)) for ref in fitting if self._of_kind(spec, ref)]

    def _of_kind(self, spec: InputSpec, ref: str) -> bool:
        """Whether shapes are of the kind that an input is for; those that are not there yet may be."""
        if not spec.shapes:
            return True
        outcome = self.work.outcome(ref)
        shapes = outcome.of(Shapes) if outcome is not None else None
        return shapes is None or shapes.kind in spec.shapes.split()

    def _further_inputs(self) -> FurtherInputs | None:
        if self.kind.further is None:
            return None
        result = FurtherInputs(self.kind.further, by_name="expression" in self.kind.settings.model_fields)
        result.changed.connect(self.update_draft)
        return result

    def _refill_inputs(self) -> None:
        if self._left:
            return
        for spec in self.kind.inputs:
            self._fill_input(spec, str(self._inputs[spec.name].currentData() or ""))

    def _fill_input(self, spec: InputSpec, wanted: str) -> None:
        box, study = self._inputs[spec.name], self.work.study
        fitting = [step_id for step_id, _ in self.fitting(spec)]
        self._rows[spec.name].setVisible(bool(fitting) or not spec.optional)  # there is something to choose
        listed = [box.itemData(i) for i in range(box.count())]
        names = [box.itemText(i) for i in range(box.count())]
        new = ([""] if spec.optional else []) + fitting
        texts = [study.name_of(i) if i else "none" for i in new]
        if listed == new and names == texts and (not wanted or box.currentData() == wanted):
            return
        box.blockSignals(True)
        box.clear()
        for step_id, text in zip(new, texts, strict=True):
            box.addItem(text, step_id)
        box.setCurrentIndex(max(box.findData(wanted or self.usual(fitting, spec)), 0))
        box.setEnabled(bool(new))
        box.blockSignals(False)

    def usual(self, fitting: list[str], spec: InputSpec) -> str:
        """What a new step most likely works on: the chosen step, the shaded ground, or the newest that
        fits.
        """
        if spec.optional:
            return ""
        for wanted in (self.work.chosen_ref, self.work.study.shading.ground):
            if wanted in fitting:
                return wanted
        return fitting[-1] if fitting else ""

    def _same_settings(self, stored: Step, step: Step) -> bool:
        return plain(self.kind.checked(stored.settings)) == step.settings


def _fits(spec: InputSpec, study: Study, ref: str, said: Said | None) -> bool:
    """Whether a result can be an input; before there is one, whether what it is declared to be can."""
    if said is None:
        return not spec.quantity and study.result(ref).gives in (spec.accepts, *spec.also)
    return spec.takes_one_of(said.kind, said.quantity)


def finding_rows(findings: Sequence[Finding], telling: Telling) -> list[tuple[str, str]]:
    """All numbers of a result in words, those that it is run for first; of many of one kind the first, and
    how many more there are.
    """
    ranked = sorted((f for f in findings if not f.of), key=lambda f: f.rank)
    own = [(f.title, finding_text(f, telling)) for f in ranked]
    several = _of_several([f for f in findings if f.of], telling)
    if len(several) > _MOST_OF_SEVERAL:
        several = [
            *several[:_MOST_OF_SEVERAL],
            ("and more", f"{len(several) - _MOST_OF_SEVERAL}, in the table and the record"),
        ]
    return own + several


def _of_several(findings: Sequence[Finding], telling: Telling) -> list[tuple[str, str]]:
    """A row for each class or zone: area and share say what they are, other numbers have their title."""
    groups: dict[str, list[Finding]] = {}
    for finding in findings:
        groups.setdefault(finding.of, []).append(finding)
    rows = []
    for of, group in groups.items():
        spoken = [f for f in group if f.unit.kind in ("area", "share")]
        if len(spoken) == 2:  # how many cells there are says no more than their area
            rows.append((of, " · ".join(finding_text(f, telling) for f in spoken)))
        left = [f for f in group if len(spoken) != 2 or f.unit.kind not in ("area", "share", "count")]
        rows += [(f"{of}: {f.title.lower()}", finding_text(f, telling)) for f in left]
    return rows


def heading(question: str, sub: str = "") -> QWidget:
    """A bench's question with a quieter line under it."""
    holder = QWidget()
    layout = QVBoxLayout(holder)
    layout.setContentsMargins(0, 0, 0, 0)
    layout.setSpacing(2)
    layout.addWidget(label(question, "title", wrap=True))
    if sub:
        layout.addWidget(label(sub, "muted", wrap=True))
    holder.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
    return holder
