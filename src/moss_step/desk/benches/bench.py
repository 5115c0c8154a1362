"""A bench: the steps of one kind of work, with the panel of the one that is made or changed."""

from __future__ import annotations

from functools import partial

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QShowEvent
from PySide6.QtWidgets import QComboBox, QScrollArea, QVBoxLayout, QWidget

from moss_step.desk.benches.panel import StepPanel, heading
from moss_step.desk.parts import Choices, button, clear, label
from moss_step.desk.plain import set_tip
from moss_step.desk.theme import PANEL_WIDTH
from moss_step.desk.work import Work
from moss_step.model.frame import Box
from moss_step.steps.catalogue import catalogue
from moss_step.steps.declare import StepKind

TITLES = {
    "gather": "Gather",
    "points": "Points",
    "surface": "Surface",
    "shape": "Shape",
    "water": "Water",
    "sight": "Sight",
    "earthwork": "Earthwork",
    "classes": "Classes",
    "sheet": "Sheet",
}
_FEW = 3
QUESTIONS = {
    "gather": "Which ground do you work on?",
    "shape": "What shape has the ground?",
    "surface": "Which surface do you need?",
    "water": "Where does water run, and what drains to a place?",
    "sight": "What is seen from where?",
    "classes": "Which ground falls in which class?",
}


class Bench(QWidget):
    """Shows the choice of steps, and below it the panel of one."""

    box_wanted = Signal()
    main = ""
    """Kind of the step that the bench begins with; empty when it offers all alike."""

    def __init__(self, work: Work, bench: str) -> None:
        super().__init__()
        self.work, self.bench = work, bench
        self.kinds = [s for s in catalogue().values() if s.bench == bench]
        self.panel: StepPanel | None = None
        self.setObjectName("panel")
        self.setFixedWidth(PANEL_WIDTH)
        self.setAccessibleName(f"{TITLES[bench]} bench")
        self._body = QWidget()
        self._layout = QVBoxLayout(self._body)
        self._layout.setContentsMargins(18, 12, 18, 6)
        self._layout.setSpacing(8)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        scroll.setWidget(self._body)
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.setSpacing(0)
        outer.addWidget(scroll, 1)
        self._foot = QVBoxLayout()
        self._foot.setContentsMargins(18, 6, 18, 12)
        outer.addLayout(self._foot)

    def showEvent(self, event: QShowEvent) -> None:
        """Fill the bench when it is first seen: filling all at the start would make the start wait."""
        if self._layout.count() == 0:
            self.show_start()
        super().showEvent(event)

    # --- what it shows

    def show_start(self) -> None:
        """Show the choice of steps."""
        self._leave()
        self._layout.addWidget(heading(QUESTIONS.get(self.bench, TITLES[self.bench])))
        self.add_start(self._layout)
        self._layout.addStretch(1)

    def add_start(self, layout: QVBoxLayout) -> None:
        """Add what the bench shows before a step is chosen."""
        for kind in self.choosable:
            made = button(kind.title, kind.help, partial(self.pick, kind.kind), role="list")
            made.setAccessibleName(f"Step: {kind.title}")
            layout.addWidget(made)
            layout.addWidget(label(kind.question, "muted", wrap=True))

    def make(self, kind: StepKind) -> None:
        """Begin a new step of a kind."""
        self._show_panel(kind, "")

    def change(self, step_id: str) -> None:
        """Show a step of the study for changing."""
        self._show_panel(self.work.study.step(step_id).declared, step_id)

    def use_box(self, box: Box) -> None:
        """Hand a drawn box to the panel."""
        if self.panel is not None:
            self.panel.use_box(box)

    def panel_for(self, kind: StepKind, step_id: str) -> StepPanel:
        """The panel of a kind of step; benches with a better control give their own."""
        return StepPanel(self.work, kind, step_id)

    def _show_panel(self, kind: StepKind, step_id: str) -> None:
        self._leave()
        sub = self.work.study.name_of(step_id) if step_id else kind.help
        self._layout.addWidget(heading(kind.question, sub))
        if not step_id and len(self.choosable) > 1:
            self._layout.addWidget(self._choices(kind.kind))
        self.panel = self.panel_for(kind, step_id)
        self.panel.box_wanted.connect(self.box_wanted)
        self.panel.closed.connect(self.show_start)
        self._layout.addWidget(self.panel, 1)
        self._foot.addWidget(self.panel.action_row)

    @property
    def choosable(self) -> list[StepKind]:
        """The steps that the bench offers side by side."""
        return self.kinds

    def _choices(self, marked: str) -> QWidget:
        if len(self.choosable) <= _FEW:
            choices = Choices([(k.kind, k.title, k.question) for k in self.choosable], name="Step")
            choices.set(marked)
            choices.picked.connect(self.pick)
            return choices
        box = QComboBox()
        box.setAccessibleName("Step")
        set_tip(box, "Another step of this bench")
        for kind in self.choosable:
            box.addItem(kind.title, kind.kind)
        box.setCurrentIndex(box.findData(marked))
        box.activated.connect(lambda i: self.pick(str(box.itemData(i))))
        return box

    def pick(self, kind: str) -> None:
        """A step was picked from the choice."""
        self.make(next(k for k in self.kinds if k.kind == kind))

    def _leave(self) -> None:
        if self.panel is not None:
            self.panel.leave()
            self.panel = None
        clear(self._layout)
        clear(self._foot)
