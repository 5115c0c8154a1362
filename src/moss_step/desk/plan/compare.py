"""Two results against each other: a divider across the plan, two plans that move together, or what
differs.
"""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QComboBox, QFrame, QVBoxLayout, QWidget

from moss_step.desk.parts import Choices, Later, label, row, tool
from moss_step.desk.plain import set_tip
from moss_step.desk.work import Work
from moss_step.model.class_map import ClassMap
from moss_step.model.frame import same_frame
from moss_step.steps.catalogue import keeper

DIVIDER, TWO_PLANS, DIFFERENCE = "divider", "two", "difference"
_WIDTH = 440


class CompareBar(QFrame):
    """Says which two results are compared, and how."""

    way_picked = Signal(str)
    difference_wanted = Signal(str, object)
    """A step of a kind that tells the difference is wanted, with its inputs."""
    closed = Signal()

    def __init__(self, work: Work, parent: QWidget) -> None:
        super().__init__(parent)
        self.work, self.way = work, DIVIDER
        self.setProperty("role", "card")
        self.setFixedWidth(_WIDTH)
        self.setAccessibleName("Compare")
        self.left, self.right = self._box("Left result"), self._box("Right result")
        self.ways = Choices(
            [
                (DIVIDER, "Divider", "One plan: drag the divider, or move it with [ and ]"),
                (TWO_PLANS, "Two plans", "Side by side, moving together"),
                (DIFFERENCE, "Difference", "First less second, or which class became which"),
            ],
            name="Compare by",
        )
        self.ways.set(DIVIDER)
        self.ways.picked.connect(self._pick)
        self.said = label("", "muted", wrap=True)
        self.said.hide()
        swap = tool("arrow-u-up-left", "Swap left and right", self.swap)
        close = tool("x", "End comparing (Escape)", self.closed.emit)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(8, 6, 6, 6)
        layout.setSpacing(5)
        layout.addWidget(row(self.left, swap, self.right, close, gap=4))
        layout.addWidget(self.ways)
        layout.addWidget(self.said)
        later = Later(self._refill, self)
        work.published.connect(later.ask)
        self.hide()

    def _box(self, name: str) -> QComboBox:
        box = QComboBox()
        box.setAccessibleName(name)
        set_tip(box, name)
        box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        box.setMinimumContentsLength(4)
        box.currentIndexChanged.connect(lambda _: self._tell())
        return box

    def fit(self, room: int) -> None:
        """Take the usual width, or the room that there is."""
        self.setFixedWidth(min(_WIDTH, room))
        self.adjustSize()

    def begin(self) -> bool:
        """Compare the chosen result with another; False where there are no two."""
        refs = self.work.now.coverings
        if len(refs) < 2:
            return False
        chosen = [r for r in (self.work.chosen_ref, *(k.step for k in self.work.study.key)) if r in refs]
        first = chosen[0] if chosen else refs[-1]
        said = self.work.now.said
        alike = [r for r in refs if r != first and said[r].kind is said[first].kind]
        others = alike or [r for r in refs if r != first]
        self._fill(others[-1], first)
        self.pick(DIVIDER)
        self.show()
        self._tell()
        return True

    def pick(self, way: str) -> None:
        """Compare in a way."""
        self.ways.set(way)
        self._pick(way)

    def _pick(self, way: str) -> None:
        if way == DIFFERENCE:
            self._differ()
            self.ways.set(self.way)
            return
        self.way = way
        self.way_picked.emit(way)

    def swap(self) -> None:
        """Swap the sides."""
        self._fill(self.right.currentData(), self.left.currentData())
        self._tell()

    def _refill(self) -> None:
        if self.isVisible():
            self._fill(self.left.currentData(), self.right.currentData())

    def _fill(self, left: str, right: str) -> None:
        names = [(ref, self.work.study.name_of(ref)) for ref in self.work.now.coverings]
        for box, chosen in ((self.left, left), (self.right, right)):
            if [(box.itemData(i), box.itemText(i)) for i in range(box.count())] != names:
                box.blockSignals(True)
                box.clear()
                for ref, name in names:
                    box.addItem(name, ref)
                    box.setItemData(box.count() - 1, name, Qt.ItemDataRole.ToolTipRole)
                box.blockSignals(False)
            box.blockSignals(True)
            box.setCurrentIndex(max(box.findData(chosen), 0))
            box.blockSignals(False)

    def _tell(self) -> None:
        left, right = str(self.left.currentData()), str(self.right.currentData())
        if not self.isHidden() and left and right:
            self.work.shown.compare(left, right)
            self._say("")

    def _differ(self) -> None:
        """Begin the step that tells what differs; grids that do not lie cell on cell are said first."""
        refs = str(self.left.currentData()), str(self.right.currentData())
        said = [self.work.now.said[ref] for ref in refs]
        if said[0].kind is not said[1].kind:
            self._say("A surface and a class map have no difference. Choose two of one kind.")
            return
        values = [self.work.outcome(ref) for ref in refs]
        if None in values:
            return  # one was let go, and is being fetched
        frames = [getattr(v.value, "frame", None) for v in values if v is not None]
        if frames[0] is None or frames[1] is None or not same_frame(frames[0], frames[1]):
            if said[0].kind is ClassMap:
                self._say("The maps do not lie cell on cell. Make both from surfaces in one frame.")
                return
            self._say(
                "The grids do not lie cell on cell: the right one is carried onto the left one's cells."
            )
            self._want("cells", refs[1], refs[0])
            return
        self._want("change" if said[0].kind is ClassMap else "difference", *refs)

    def _want(self, what: str, first: str, second: str) -> None:
        """Ask for the step that keeps it, made from two results."""
        kind = keeper(what)
        names = [spec.name for spec in kind.inputs]
        self.difference_wanted.emit(kind.kind, {names[0]: first, names[1]: second})

    def _say(self, text: str) -> None:
        self.said.setText(text)
        self.said.setVisible(bool(text))
        self.adjustSize()
