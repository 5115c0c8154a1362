"""What every bench is to the window: one protocol, whatever is done on it."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, ClassVar

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QWidget

from moss_step.desk.plan.tools.line import Line
from moss_step.desk.plan.tools.tool import Place
from moss_step.desk.theme import PANEL_WIDTH
from moss_step.desk.work import Work

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


class Bench(QWidget):
    """Base of the benches; what one does not do, it leaves as it is here."""

    name: ClassVar[str] = ""
    """Name of the bench; empty for a class that several share."""
    open_wanted = Signal()
    """Files are to be opened."""
    step_wanted = Signal(str, object)
    """A new step of a kind is to be begun, at a place of the plan or None."""
    tool_wanted = Signal(object)
    """A tool for the plan; None for the one at rest."""
    live = Signal(object)
    """What to draw on the plan while the pointer or a slider moves, or None."""
    handles = Signal(object)
    """Places on the plan that can be dragged."""
    section = Signal(object)
    """What to show in the section while that is open."""
    section_wanted = Signal()
    """The section is to be opened."""
    place_wanted = Signal(float, float)
    """A place is to be shown in the middle of the plan."""
    drawer_wanted = Signal(object)
    """A part of the bench that needs room is to be shown below the plan; None ends that."""
    picture_wanted = Signal(object)
    """A picture of the plan is to be written to a path."""
    page_wanted = Signal(object)
    """A part of the bench is to lie over the plan, such as a page; None takes it away."""

    def __init__(self, work: Work, name: str) -> None:
        super().__init__()
        self.work, self.bench = work, name
        self.setObjectName("panel")
        self.setFixedWidth(PANEL_WIDTH)
        self.setAccessibleName(f"{TITLES[name]} bench")

    # --- what is shown

    def enter(self, chosen: str) -> None:
        """The person turns to the bench for something new; ``chosen`` is the result that is chosen."""

    def fill(self) -> None:
        """The bench is turned to, perhaps for the first time: filling all at the start would make that wait.

        Not when it is shown: then the library goes through the parts of the window, and what a bench asks the
        disk for may let go of some.
        """

    def arrive(self) -> None:
        """The bench is shown from now on."""

    def leave(self) -> None:
        """Another bench is shown from now on."""

    def show_start(self) -> None:
        """Show what the bench begins with, and follow nothing."""

    def begin(self, kind: str, place: Place | None = None) -> None:
        """Begin a new step of a kind, at a place where one is given."""

    def focus_first(self) -> None:
        """Give the keyboard to the first field of what is shown."""

    def take_inputs(self, inputs: Mapping[str, str]) -> None:
        """Let the step that is being made work from some results, by the names of its inputs."""

    def take_settings(self, settings: Mapping[str, Any]) -> None:
        """Set some settings of the step that is being made; the others stay."""

    def change(self, ref: str) -> None:
        """Show a result of the study, for changing its step."""

    def drop(self) -> None:
        """Give up what is being made."""

    def takes(self, ref: str) -> bool:
        """Whether it stays and shows a result that is chosen, whichever bench that is of."""
        return False

    def show_way(self, way: str) -> None:
        """Show one of the ways that the bench has of doing its work."""

    def offer(self, ref: str) -> None:
        """Offer a result to be handed on."""

    def ask_any(self) -> None:
        """Ask where the result that is shown goes, and write it."""

    def ask_record(self) -> None:
        """Ask where the lineage of the result that is shown goes, and write it."""

    # --- the plan

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

    @property
    def cuts(self) -> bool:
        """Whether lines that are drawn for the section belong to the bench."""
        return False

    def pull_line(self, line: Line) -> None:
        """A line is being pulled."""

    def use_line(self, line: Line) -> None:
        """Take a line that was drawn."""
