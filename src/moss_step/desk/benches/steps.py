"""A bench of steps: the choice of them, and the panel of the one that is made or changed."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, ClassVar

from PySide6.QtCore import QEvent, QObject
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QComboBox, QVBoxLayout, QWidget

from moss_step.desk.benches.bench import TITLES, Bench
from moss_step.desk.benches.choice import StepChoice
from moss_step.desk.benches.panel import LEAST_FIGURES, StepPanel, heading
from moss_step.desk.parts import Later, button, clear, row, scrolled
from moss_step.desk.plain import set_tip
from moss_step.desk.plan.tools.line import Line
from moss_step.desk.plan.tools.tool import Place
from moss_step.desk.work import Work
from moss_step.steps.catalogue import catalogue, step_kind
from moss_step.steps.declare import StepKind

_LAST = 2
_FOOT = 16  # the margins around what is below the settings
QUESTIONS = {
    "gather": "Which ground do you work on?",
    "points": "What do the points show?",
    "shape": "What shape has the ground?",
    "surface": "Which surface do you need?",
    "water": "Where does water run, and what drains to a place?",
    "sight": "What is seen from where?",
    "earthwork": "How much is moved, and where?",
    "classes": "Which ground falls in which class?",
}


class StepBench(Bench):
    """Shows the choice of steps, or the panel of one."""

    panels: ClassVar[dict[str, type[StepPanel]]] = {}
    """Panels with better controls, by the kind of their step."""
    usual: ClassVar[type[StepPanel]] = StepPanel

    def __init__(self, work: Work, name: str) -> None:
        super().__init__(work, name)
        self.kinds = [s for s in catalogue().values() if s.bench == name]
        self.panel: StepPanel | None = None
        self._body = QWidget()
        self._layout = QVBoxLayout(self._body)
        self._layout.setSpacing(8)
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.setSpacing(0)
        scrolls = scrolled(self._body)
        self._bar = scrolls.verticalScrollBar()
        self._bar.rangeChanged.connect(self._keep_width)
        self._keep_width(0, 0)
        outer.addWidget(scrolls, 1)
        self._foot = QVBoxLayout()
        self._foot.setContentsMargins(18, 4, 18, 10)
        outer.addLayout(self._foot)
        self._share = Later(self._share_out, self)
        self._body.installEventFilter(self)

    def _keep_width(self, least: int, most: int) -> None:
        """A bar takes its room of the margin: settings beside one are as wide as without, and as high."""
        self._layout.setContentsMargins(18, 10, 18 - (self._bar.sizeHint().width() if most > least else 0), 4)

    def _share_out(self) -> None:
        """Give the figures what the settings leave, and never less than their first few."""
        figures = None if self.panel is None else self.panel.figures
        if self.panel is None or figures is None:
            return
        inner, width = self._layout, self._body.width()
        needed = inner.totalHeightForWidth(width) if inner.hasHeightForWidth() else inner.sizeHint().height()
        others = self.panel.foot.sizeHint().height() - figures.minimumHeight() + _FOOT
        figures.give(max(LEAST_FIGURES, self.height() - needed - others))

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """Share the height anew when the settings need another."""
        if event.type() == QEvent.Type.LayoutRequest:
            self._share.ask()
        return super().eventFilter(watched, event)

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Share the new height."""
        self._share.ask()
        super().resizeEvent(event)

    def fill(self) -> None:
        """Show what the bench begins with, where nothing is shown yet."""
        if self._layout.count() == 0:
            self.show_start()

    # --- what it shows

    def enter(self, chosen: str) -> None:
        """Show the chosen step when it is of this bench, else begin the main one, or offer the choice."""
        if chosen and self.work.study.step(chosen).declared.bench == self.bench:
            self.change(chosen)
        else:
            self.show_start()

    def show_start(self) -> None:
        """Show the choice of steps."""
        self._leave()
        self._layout.addWidget(heading(QUESTIONS.get(self.bench, TITLES[self.bench])))
        self.add_start(self._layout)

    def add_start(self, layout: QVBoxLayout) -> None:
        """Add what the bench shows before a step is chosen."""
        self.choice = StepChoice(self.bench, self.choosable, self._last_used())
        self.choice.picked.connect(self.pick)
        layout.addWidget(self.choice, 1)

    def _last_used(self) -> list[StepKind]:
        """The kinds of the newest steps of the study that the bench offers, the last first."""
        kinds = dict.fromkeys(s.kind for s in reversed(self.work.study.steps))
        return [k for name in kinds for k in self.choosable if k.kind == name][:_LAST]

    def begin(self, kind: str, place: Place | None = None) -> None:
        """Begin a new step of a kind, at a place where one is given."""
        self.make(step_kind(kind))
        if place is not None:
            self.use_point(*place)

    def focus_first(self) -> None:
        """Give the keyboard to the first field of the panel's settings."""
        form = getattr(self.panel, "form", None)
        if form is not None:
            form.focus_first()

    def take_inputs(self, inputs: Mapping[str, str]) -> None:
        """Let the step that is being made work from some results, by the names of its inputs."""
        if self.panel is not None:
            self.panel.take_inputs(inputs)

    def take_settings(self, settings: Mapping[str, Any]) -> None:
        """Set some settings of the step that is being made; the others stay."""
        if self.panel is not None:
            self.panel.show_settings(settings.keys(), settings)
            self.panel.update_draft()

    def make(self, kind: StepKind) -> None:
        """Begin a new step of a kind."""
        self._show_panel(kind, "")

    def change(self, ref: str) -> None:
        """Show a result of the study, for changing its step."""
        step = self.work.study.step(ref)
        if self.panel is not None and self.panel.goes_on and self.panel.step_id == step.id:
            return
        self._show_panel(step.declared, step.id)

    def drop(self) -> None:
        """Give up what is being made."""
        if self.panel is not None:
            self.panel.drop()

    def panel_for(self, kind: StepKind) -> type[StepPanel]:
        """The class of the panel of a kind of step."""
        return self.panels.get(kind.kind, self.usual)

    def _show_panel(self, kind: StepKind, step_id: str) -> None:
        self._leave()
        sub = self.work.study.name_of(step_id) if step_id else ""
        self._layout.addWidget(heading(kind.question, sub))
        if not step_id:
            self._layout.addWidget(self._choices(kind))
        self.panel = panel = self.panel_for(kind)(self.work, kind, step_id)
        panel.closed.connect(self.show_start)
        for mine, its in (
            (self.step_wanted, panel.step_wanted),
            (self.tool_wanted, panel.tool_wanted),
            (self.live, panel.live),
            (self.handles, panel.handles),
            (self.section, panel.section),
            (self.section_wanted, panel.section_wanted),
            (self.place_wanted, panel.place_wanted),
            (self.drawer_wanted, panel.drawer_wanted),
        ):
            its.connect(mine)
        panel.show_places()
        panel.arm()
        self._layout.addWidget(panel, 1)
        self._foot.addWidget(panel.foot)
        self._share.ask()

    @property
    def choosable(self) -> list[StepKind]:
        """The steps that the bench offers side by side."""
        return self.kinds

    def _choices(self, kind: StepKind) -> QWidget:
        """The way back to all questions, and the step's close relatives."""
        back = button(
            "All questions", f"All steps of {TITLES[self.bench]}", self._go_back, "plain", "caret-left"
        )
        relatives = [k for k in self.choosable if k.group == kind.group]
        if len(relatives) < 2:
            return row(back, 1)
        box = QComboBox()
        box.setAccessibleName("Step")
        set_tip(box, f"Its relatives: {kind.group.lower()}")
        for other in relatives:
            box.addItem(other.title, other.kind)
        box.setCurrentIndex(box.findData(kind.kind))
        box.activated.connect(lambda i: self.pick(str(box.itemData(i))))
        return row(back, box, grows=box)

    def _go_back(self) -> None:
        self.work.set_draft(None)
        self.show_start()

    def pick(self, kind: str) -> None:
        """A step was picked from the choice."""
        self.make(next(k for k in self.kinds if k.kind == kind))

    def _leave(self) -> None:
        if self.panel is not None:
            self.panel.leave()
            self.panel = None
        clear(self._layout)
        clear(self._foot)

    # --- the plan: the panel's

    def follow(self, place: Place | None) -> None:
        """The pointer stands at a place of the plan, or left it."""
        if self.panel is not None:
            self.panel.follow(place)

    def use_point(self, x: float, y: float) -> bool:
        """Take a place that was clicked; tells whether it was wanted."""
        return self.panel is not None and self.panel.use_point(x, y)

    def use_row(self, ref: str, row: int) -> bool:
        """Take a point of a cloud that was clicked; tells whether it was wanted."""
        return self.panel is not None and self.panel.use_row(ref, row)

    def drag_handle(self, number: int, x: float, y: float, ended: bool) -> None:
        """A handle on the plan is dragged, or was let go."""
        if self.panel is not None:
            self.panel.drag_handle(number, x, y, ended)

    @property
    def cuts(self) -> bool:
        """Whether lines that are drawn for the section belong to the panel."""
        return self.panel is not None and self.panel.cuts

    def pull_line(self, line: Line) -> None:
        """A line is being pulled."""
        if self.panel is not None:
            self.panel.pull_line(line)

    def use_line(self, line: Line) -> None:
        """Take a line that was drawn."""
        if self.panel is not None:
            self.panel.use_line(line)
