"""Small widgets that many panels are made of."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from functools import partial

from PySide6.QtCore import QEvent, QObject, QSize, Qt, QTimer, Signal
from PySide6.QtGui import QFontMetrics, QPainter, QPaintEvent, QResizeEvent
from PySide6.QtWidgets import (
    QButtonGroup,
    QComboBox,
    QFrame,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QLayout,
    QMenu,
    QPushButton,
    QScrollArea,
    QSizePolicy,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from moss_step.desk.names import fitted
from moss_step.desk.plain import set_tip
from moss_step.desk.theme import icon, pixmap
from moss_step.desk.tones import tone
from moss_step.scene.colors import CARD, OCHRE

_ONE_LINE = 18
"""Letters of a value that is never broken over two lines."""


class Later(QTimer):
    """Calls a function at the window's next turn, once for all that asked: long work then comes in short
    turns.
    """

    def __init__(self, run: Callable[[], object], parent: QObject, after: int = 0) -> None:
        """``after`` milliseconds: parts of the window that follow the same change take different ones."""
        super().__init__(parent, singleShot=True, interval=after)
        self.timeout.connect(run)

    def ask(self, *_: object) -> None:
        """Ask for the call."""
        self.start()


def label(text: str, role: str = "", wrap: bool = False) -> QLabel:
    """A text in one of the theme's roles: title, head, muted, value, warn."""
    result = QLabel(text)
    result.setProperty("role", role)
    result.setWordWrap(wrap)
    result.setTextFormat(Qt.TextFormat.PlainText)
    return result


class Elided(QLabel):
    """A text of one line that is shortened where there is no room; the tooltip has it whole."""

    def __init__(self, text: str = "", role: str = "") -> None:
        super().__init__(text)
        self.setTextFormat(Qt.TextFormat.PlainText)
        self.setProperty("role", role)
        set_tip(self, text)
        self.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)

    def setText(self, text: str) -> None:
        """Set the whole text."""
        super().setText(text)
        set_tip(self, text)

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw what fits of the text."""
        with QPainter(self) as painter:
            text = fitted(self.text(), QFontMetrics(self.font()), self.width())
            painter.drawText(
                self.rect(), int(Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft), text
            )


def button(
    text: str, tip: str, pressed: Callable[[], object], role: str = "", picture: str = ""
) -> QPushButton:
    """A push button with tooltip and accessible name."""
    result = QPushButton(text)
    result.setProperty("role", role)
    set_tip(result, tip)
    result.setAccessibleName(text or tip)
    if picture:
        result.setIcon(icon(picture, CARD if role == "main" else ""))
    result.clicked.connect(lambda: pressed())
    return result


class ElidedButton(QPushButton):
    """A button in a list, whose text is cut when there is no room; the tooltip has it whole."""

    def __init__(self, text: str, tip: str, pressed: Callable[[], object]) -> None:
        super().__init__(text)
        self.setProperty("role", "pick")
        self._whole = text
        self.setAccessibleName(text)
        set_tip(self, f"{text}. {tip}")
        self.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        self.clicked.connect(lambda: pressed())

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Cut the text to the width."""
        room = self.width() - 18
        self.setText(self.fontMetrics().elidedText(self._whole, Qt.TextElideMode.ElideRight, room))
        super().resizeEvent(event)


class More(QWidget):
    """What not every use needs, folded away; its head says how many of it are not as they are at first."""

    def __init__(self) -> None:
        super().__init__()
        self.head = button("More", "Settings and inputs that not every use needs", self.toggle, "fold")
        self.head.setCheckable(True)
        self._body = QWidget()
        self._inner = QVBoxLayout(self._body)
        self._inner.setContentsMargins(0, 4, 0, 0)
        self._inner.setSpacing(8)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addWidget(self.head)
        layout.addWidget(self._body)
        self._body.hide()
        self.say(0)

    def add(self, part: QWidget) -> None:
        """Fold something away."""
        self._inner.addWidget(part)

    def say(self, changed: int) -> None:
        """Say how many differ, and leave out the head where nothing is folded away."""
        unfolded = not self._body.isHidden()
        said = f"{'Less' if unfolded else 'More'}{f' · {changed} changed' if changed else ''}"
        self.head.setText(said)
        self.head.setAccessibleName(said)
        self.head.setIcon(icon("caret-up" if unfolded else "caret-down"))
        self.head.setChecked(unfolded)
        self._changed = changed
        parts = [item.widget() for i in range(self._inner.count()) if (item := self._inner.itemAt(i))]
        self.setVisible(any(part is not None and not part.isHidden() for part in parts))

    def toggle(self) -> None:
        """Fold out, or away again."""
        self._body.setVisible(self._body.isHidden())
        self.say(self._changed)


class Snug(QScrollArea):
    """As high as what it holds, up to a bound; beyond that it scrolls."""

    def __init__(self, part: QWidget, most: int) -> None:
        super().__init__()
        self._part, self._most = part, most
        self.setWidgetResizable(True)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setWidget(part)
        self.setViewportMargins(0, 0, 4, 0)
        part.installEventFilter(self)
        self._later = Later(self._fit, self)
        self._fit()

    def give(self, most: int) -> None:
        """Let it be so high at the most."""
        self._most = most
        self._fit()

    def _fit(self) -> None:
        """Take the height that is needed at this width."""
        layout, wanted = self._part.layout(), self._part.sizeHint().height()
        if layout is not None and layout.hasHeightForWidth():
            wanted = layout.totalHeightForWidth(max(self.viewport().width(), 100))
        if self.minimumHeight() == min(wanted, self._most):
            return
        self.setFixedHeight(min(wanted, self._most))
        around = self.parentWidget()
        while around is not None and (outer := around.layout()) is not None:
            outer.invalidate()  # nested layouts keep the size that they had while they were not shown
            outer.activate()  # at once: a picture between would show parts over one another
            around = around.parentWidget()

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """Follow what it holds."""
        if event.type() == QEvent.Type.LayoutRequest:
            self._later.ask()  # within the request it would be lost on those around
        return super().eventFilter(watched, event)

    def resizeEvent(self, event: QResizeEvent) -> None:
        """A new width may need another height."""
        super().resizeEvent(event)
        self._later.ask()


def tool(picture: str, tip: str, pressed: Callable[[], object], color: str = "") -> QToolButton:
    """A small button with an icon, tooltip and accessible name."""
    result = QToolButton()
    result.setIcon(icon(picture, color))
    result.setIconSize(QSize(16, 16))
    set_tip(result, tip)
    result.setAccessibleName(tip)
    result.clicked.connect(lambda: pressed())
    return result


def line() -> QFrame:
    """A thin horizontal line."""
    result = QFrame()
    result.setFixedHeight(1)
    result.setProperty("role", "line")
    return result


def row(*parts: QWidget | int, gap: int = 8, sides: int = 0, grows: QWidget | None = None) -> QWidget:
    """Widgets side by side; a number is a stretch. ``grows`` is the one that takes the room left, ``sides``
    the margin at both ends.
    """
    holder = QWidget()
    layout = QHBoxLayout(holder)
    layout.setContentsMargins(sides, 0, sides, 0)
    layout.setSpacing(gap)
    for part in parts:
        if isinstance(part, int):
            layout.addStretch(part)
        else:
            layout.addWidget(part, 1 if part is grows else 0)
    return holder


def column(
    parts: Iterable[QWidget] = (), gap: int = 8, margins: tuple[int, int, int, int] = (0, 0, 0, 0)
) -> QWidget:
    """Widgets one under the other."""
    holder = QWidget()
    layout = QVBoxLayout(holder)
    layout.setContentsMargins(*margins)
    layout.setSpacing(gap)
    for part in parts:
        layout.addWidget(part)
    return holder


def lent_by(owner: QWidget, part: QWidget) -> QWidget:
    """A part that its owner lends to a drawer: it is hidden while it is at home, and ends with its owner."""
    part.setParent(owner)
    part.hide()
    return part


def close_column(box: QWidget) -> QVBoxLayout:
    """Lay out controls one below another, as close as in the Key."""
    layout = QVBoxLayout(box)
    layout.setContentsMargins(0, 0, 0, 0)
    layout.setSpacing(5)
    return layout


def tool_menu(text: str, tip: str, items: Sequence[tuple[str, Callable[[], object]]]) -> QToolButton:
    """A button with a menu."""
    result = QToolButton()
    result.setText(text)
    result.setIcon(icon("caret-down"))
    result.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextBesideIcon)
    result.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
    result.setAccessibleName(text)
    set_tip(result, tip)
    menu = QMenu(result)
    for title, run in items:
        menu.addAction(title, run)
    result.setMenu(menu)
    return result


def scrolled(body: QWidget) -> QScrollArea:
    """A panel that is moved up and down where it is higher than its room."""
    result = QScrollArea()
    result.setWidgetResizable(True)
    result.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
    result.setWidget(body)
    return result


def clear(layout: QLayout) -> None:
    """Take everything out of a layout."""
    while layout.count():
        item = layout.takeAt(0)
        widget = item.widget() if item is not None else None
        if widget is not None:
            widget.hide()
            widget.deleteLater()


class Choices(QWidget):
    """A few exclusive choices as buttons side by side, in as many rows as they need."""

    picked = Signal(str)

    def __init__(self, options: Sequence[tuple[str, str, str]], per_row: int = 3, name: str = "") -> None:
        """Each option is its value, its text and its tooltip."""
        super().__init__()
        self._group = QButtonGroup(self)
        self._group.setExclusive(True)
        self._buttons: dict[str, QPushButton] = {}
        self._options, self._name = options, name
        self._box: QComboBox | None = None
        layout = QGridLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(4)
        for i, (value, text, tip) in enumerate(options):
            result = button(text, tip, partial(self.picked.emit, value), role="choice")
            result.setCheckable(True)
            result.setAccessibleName(f"{name}: {text}" if name else text)
            self._group.addButton(result)
            self._buttons[value] = result
            layout.addWidget(result, i // per_row, i % per_row)

    def fold(self, folded: bool) -> None:
        """Show one drop-down instead of the buttons, or the buttons again."""
        if folded and self._box is None:
            self._box = QComboBox()
            self._box.setAccessibleName(self._name)
            for value, text, _ in self._options:
                self._box.addItem(text, value)
            self._box.activated.connect(lambda i: self.picked.emit(self._options[i][0]))
            layout = self.layout()
            if layout is not None:
                layout.addWidget(self._box)
            self.set(self.value)
        if self._box is not None:
            self._box.setVisible(folded)
        for result in self._buttons.values():
            result.setVisible(not folded)
        around: QWidget | None = self
        while around is not None and (outer := around.layout()) is not None:
            outer.activate()  # what holds it may ask for its size at once
            around = around.parentWidget()

    @property
    def folded(self) -> bool:
        """Whether it is a drop-down now."""
        return self._box is not None and not self._box.isHidden()

    def set(self, value: str) -> None:
        """Mark a choice without telling; an unknown one marks none."""
        if self._box is not None:
            self._box.setCurrentIndex(self._box.findData(value))
        self._group.setExclusive(False)
        for v, result in self._buttons.items():
            result.setChecked(v == value)
        self._group.setExclusive(True)

    def button(self, value: str) -> QPushButton:
        """The button of a choice."""
        return self._buttons[value]

    @property
    def value(self) -> str:
        """The choice that is marked; empty when none is."""
        return next((v for v, b in self._buttons.items() if b.isChecked()), "")


class Note(QFrame):
    """A tinted box with one strong line and quieter lines under it; ``bad`` adds a warning mark."""

    def __init__(self) -> None:
        super().__init__()
        self.setProperty("role", "note")
        self._layout = QVBoxLayout(self)
        self._said: object = None
        self._layout.setContentsMargins(12, 8, 12, 9)
        self._layout.setSpacing(3)
        self.hide()

    def show_lines(self, head: str, lines: Sequence[str] = (), bad: bool = False) -> None:
        """Show lines; nothing at all hides the box."""
        said = (head, tuple(lines), bad)
        if said == self._said:
            return
        self._said = said
        clear(self._layout)
        self.setVisible(bool(head or lines))
        self.setAccessibleName(" ".join([head, *lines]))
        if head:
            strong = label(head, "head", wrap=True)
            if bad:
                mark = QLabel()
                mark.setPixmap(pixmap("warning", tone(OCHRE), 16))
                mark.setAlignment(Qt.AlignmentFlag.AlignTop)
                self._layout.addWidget(row(mark, strong, gap=6, grows=strong))
            else:
                self._layout.addWidget(strong)
        for text in lines:
            self._layout.addWidget(label(text, "muted", wrap=True))

    @property
    def text(self) -> str:
        """All that it says."""
        return "" if self.isHidden() else self.accessibleName()


class Facts(QWidget):
    """Names and values in two columns."""

    def __init__(self) -> None:
        super().__init__()
        self._layout = QGridLayout(self)
        self._layout.setContentsMargins(0, 0, 0, 0)
        self._layout.setHorizontalSpacing(10)
        self._layout.setVerticalSpacing(3)
        self._layout.setColumnStretch(0, 2)
        self._layout.setColumnStretch(1, 1)
        self._rows: list[tuple[str, str]] = []

    def show_rows(self, rows: Sequence[tuple[str, str]]) -> None:
        """Show rows of a name and a value."""
        if list(rows) == self._rows:
            return
        self._rows = list(rows)
        clear(self._layout)
        for i, (name, value) in enumerate(rows):
            self._layout.addWidget(label(name, "muted", wrap=True), i, 0, Qt.AlignmentFlag.AlignTop)
            shown = label(value, "value", wrap=len(value) > _ONE_LINE)
            shown.setAlignment(Qt.AlignmentFlag.AlignRight)
            shown.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
            shown.setAccessibleName(f"{name}: {value}")
            self._layout.addWidget(shown, i, 1)

    @property
    def rows(self) -> list[tuple[str, str]]:
        """What it shows."""
        return list(self._rows)
