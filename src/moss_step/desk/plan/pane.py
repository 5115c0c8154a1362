"""The plan with what floats on it: view buttons, Key, reading, welcome and messages."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial

from PySide6.QtCore import QRect, QSize, Qt, QTimer, Signal
from PySide6.QtGui import QIcon, QPixmap, QResizeEvent
from PySide6.QtWidgets import QFrame, QHBoxLayout, QLabel, QToolButton, QVBoxLayout, QWidget

from moss_step.desk.parts import Choices, ElidedButton, button, clear, label, scrolled, tool
from moss_step.desk.plain import speak
from moss_step.desk.plan.compare import CompareBar
from moss_step.desk.plan.key import KeyPanel
from moss_step.desk.plan.live import Live
from moss_step.desk.plan.tools.registry import tool_types
from moss_step.desk.plan.tools.tool import Tool
from moss_step.desk.plan.view import KEYS, PlanView
from moss_step.desk.theme import pixmap
from moss_step.desk.tones import tone
from moss_step.desk.work import Work
from moss_step.scene.colors import DEEP, DEEP_TEXT, LICHEN, MUTED, OCHRE, PAPER
from moss_step.scene.readings import Reading, place_text, readings

_MESSAGE_FOR = 9000
_MOST_RECENT = 4


_NARROW, _WELCOME, _READING = 462, 404, 30
"""Width of the plan below which the views are a drop-down, width of the welcome, height of a reading."""


class ReadingBar(QFrame):
    """What is under the pointer, with coordinates and units."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setStyleSheet(f"QFrame {{ background: {DEEP}; border-radius: 6px; }}")
        self.setAccessibleName("Reading")
        self._text = QLabel(self)
        self._text.setTextFormat(Qt.TextFormat.RichText)
        self._text.setWordWrap(True)
        self._text.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(13, 7, 13, 7)
        layout.addWidget(self._text)
        self.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        self.rows: list[Reading] = []
        self._room = 10_000
        self.hide()

    def show_rows(self, rows: list[Reading]) -> None:
        """Show readings; none hides the bar."""
        self.rows = rows
        self.setVisible(bool(rows))
        parts = [
            f"<span style='color:{DEEP_TEXT}'>{_plain(r.name)}</span>&nbsp;&nbsp;<b "
            f"style='color:{PAPER}'>{_plain(r.text)}</b>"
            for r in rows
        ]
        self._text.setText("&nbsp;&nbsp;&nbsp; &nbsp;".join(parts))
        self.fit(self._room)

    def fit(self, room: int) -> None:
        """Take the width that is needed, up to some; what does not fit goes on in another line."""
        self._room = room
        self._text.setWordWrap(False)
        wanted = self._text.sizeHint().width() + 26
        self._text.setWordWrap(True)
        width = min(wanted, room)
        self.setFixedWidth(width)
        self.setFixedHeight(self._text.heightForWidth(width - 26) + 14)


class Message(QFrame):
    """Something to tell, at the foot of the plan, for a while or until it is closed."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setStyleSheet(
            f"QFrame {{ background: {DEEP}; border-radius: 6px; }} QLabel {{ color: {PAPER}; }}"
        )
        self._mark, self._text = QLabel(), label("", wrap=True)
        self._text.setMinimumWidth(360)
        close = tool("x", "Close the message", self.hide, PAPER)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(12, 8, 8, 8)
        for part in (self._mark, self._text, close):
            layout.addWidget(part)
        self._timer = QTimer(self, singleShot=True, interval=_MESSAGE_FOR)
        self._timer.timeout.connect(self.hide)
        self.hide()

    @property
    def text(self) -> str:
        """What it says; empty when it is hidden."""
        return self._text.text() if not self.isHidden() else ""

    def tell(self, text: str, bad: bool) -> None:
        """Show a text; a bad one stays until it is closed."""
        self._mark.setPixmap(pixmap("warning" if bad else "check-circle", OCHRE if bad else LICHEN, 18))
        self._text.setText(text)
        self.setAccessibleName(text)
        self.show()
        self.adjustSize()
        self.raise_()
        self._timer.stop()
        if not bad:
            self._timer.start()


class Welcome(QFrame):
    """What an empty study offers."""

    open_wanted = Signal()
    demo_wanted = Signal()
    walk_wanted = Signal(object)
    recent_wanted = Signal(object)

    def __init__(self, work: Work, parent: QWidget) -> None:
        super().__init__(parent)
        self._work = work
        self._walks: tuple[tuple[str, object], ...] = ()
        work.recents.changed.connect(self.fill)
        self.setProperty("role", "card")
        self._body, around = QWidget(), QVBoxLayout(self)
        around.setContentsMargins(2, 2, 2, 2)
        around.addWidget(scrolled(self._body))
        self._layout = QVBoxLayout(self._body)
        self._layout.setContentsMargins(24, 20, 24, 20)
        self._layout.setSpacing(10)
        self.fill()

    def fit(self, width: int, height: int) -> None:
        """Take what it needs of the room, in its middle; what does not fit is scrolled."""
        wide = min(_WELCOME, width - 16)
        needed = self._layout.totalHeightForWidth(wide - 4) if self._layout.hasHeightForWidth() else 0
        high = min(max(needed, self._layout.sizeHint().height()) + 10, height - 16)
        self.setGeometry((width - wide) // 2, (height - high) // 2, wide, high)

    def offer(self, walks: Sequence[tuple[str, object]]) -> None:
        """Offer walks: a title, and what is told when it is wanted."""
        self._walks = tuple(walks)
        self.fill()

    def fill(self) -> None:
        """List what can be opened."""
        clear(self._layout)
        self._layout.addWidget(label("Begin with a ground", "title"))
        self._layout.addWidget(
            label(
                "Open an elevation grid or shapes, or drop files anywhere on this window.", "muted", wrap=True
            )
        )
        self._layout.addWidget(
            button("Open a grid or shapes", "Ctrl+O", self.open_wanted.emit, "main", "folder-open")
        )
        self._layout.addWidget(
            button(
                "Open the demo: Harrow Moss",
                "An invented upland estate",
                self.demo_wanted.emit,
                "",
                "map-trifold",
            )
        )
        if self._walks:
            self._layout.addWidget(label("Or take a short walk through it", "head"))
        for title, walk in self._walks:
            tip = "Opens the demo, and leads step by step; it can be left at any time"
            self._layout.addWidget(ElidedButton(title, tip, partial(self.walk_wanted.emit, walk)))
        known = self._work.recents.listed[:_MOST_RECENT]
        if known:
            self._layout.addWidget(label("Recent", "head"))
        for one in known:
            text = f"{one.path.stem}\n{one.path.parent.name or one.path.parent} · {one.when}"
            result = button(text, str(one.path), partial(self.recent_wanted.emit, one.path), "plain")
            result.setAccessibleName(one.path.name)
            result.setIcon(
                QIcon(pixmap("clock-counter-clockwise", tone(MUTED), 24))
                if one.picture is None
                else QIcon(QPixmap.fromImage(one.picture))
            )
            result.setIconSize(QSize(64, 40))
            self._layout.addWidget(result)
        self.adjustSize()


class PlanPane(QWidget):
    """Holds the plan and keeps what floats on it in its corners."""

    def __init__(self, work: Work) -> None:
        super().__init__()
        self.work = work
        self.view = PlanView(work, self)
        self.key = KeyPanel(work, self)
        self.reading = ReadingBar(self)
        self.message = Message(self)
        self.welcome = Welcome(work, self)
        views = [
            ("plan", "Plan", "The ground from above alone"),
            ("section", "Section", "Values along a line drawn on the plan (Ctrl+L)"),
            ("table", "Table", "Rows of the chosen result (Ctrl+T)"),
            ("block", "Block", "The ground in three dimensions beside the plan (Ctrl+B)"),
            ("compare", "Compare", "Two results against each other (Ctrl+D)"),
        ]
        self.views = Choices(views, per_row=5, name="View")
        self.compare = CompareBar(work, self)
        self.views.set("plan")
        self.tools = self._tools()
        self.view.cards = (self.key, self.tools, self.compare)
        self.view.insets = self._insets
        self.view.fold_wanted.connect(self.key.fold)
        self.key.resized.connect(self.view.update)
        self._pointer: tuple[float, float] | None = None
        self._places: list[QRect] = []
        self.laid: QWidget | None = None
        self.view.pointed.connect(self.read)
        self.view.redrawn.connect(self._on_redrawn)
        work.message.connect(self._tell)
        work.changed.connect(self._on_changed)
        self._on_changed()

    def _tools(self) -> QFrame:
        bar = QFrame(self)
        bar.setProperty("role", "card")
        layout = QHBoxLayout(bar)
        layout.setContentsMargins(3, 2, 3, 2)
        layout.setSpacing(1)
        layout.addWidget(self.views)
        result: list[tuple[str, str, Callable[[], object]]] = [
            ("arrows-out-simple", "Show all (F)", self.view.fit),
            ("plus", "Nearer (+)", lambda: self._zoom(1.4)),
            ("minus", "Farther (-)", lambda: self._zoom(1 / 1.4)),
        ]
        result += [
            (t.picture, f"{t.title}: {t.tip[0].lower()}{t.tip[1:]}", partial(self._use, t))
            for t in tool_types()
        ]
        for picture, tip, pressed in result:
            part: QToolButton = tool(picture, tip, pressed)
            layout.addWidget(part)
        return bar

    def fit(self) -> None:
        """Give the bar the size that it needs, once it has its style."""
        self.tools.adjustSize()
        self.arrange()

    def lay(self, part: QWidget | None) -> None:
        """Lay something over the plan, such as a page; None takes it away. Messages stay above it."""
        if part is self.laid:
            return
        if self.laid is not None:
            self.laid.hide()
        self.laid = part
        if part is not None:
            part.setParent(self)
            part.show()
            part.raise_()
            for above in (self.welcome, self.message):
                above.raise_()
        self.arrange()

    def _insets(self) -> tuple[int, int, int, int]:
        """Room for the buttons above and the Key at the right, where they leave enough for the ground."""
        key = self.key.width() + 14 if self.width() > 3 * self.key.width() else 0
        return 0, self.tools.height() + 12 if self.height() > 400 else 0, key, 0

    def _use(self, kind: type[Tool]) -> None:
        """Take a tool, or lay it down when it is in hand."""
        self.view.use(None if isinstance(self.view.tool, kind) else kind())
        self.view.setFocus()

    def _zoom(self, factor: float) -> None:
        self.view.show_camera(self.view.camera.zoomed(factor, self.view.width() / 2, self.view.height() / 2))

    def _tell(self, text: str, bad: bool) -> None:
        self.message.tell(text, bad)
        self.arrange()

    def read(self, place: tuple[float, float] | None) -> None:
        """Show what stands at a place; None hides it."""
        self._pointer = place
        rows: list[Reading] = []
        if place is not None and self.work.frame is not None:
            sides = self.work.now.sides
            read = [r for s in sides for r in readings(s, *place)[:1]] or readings(self.view.scene, *place)
            rows = [*place_text(self.work.frame, *place), *read]
        self.reading.show_rows(rows[:7])
        speak(self.view, self._value(rows), KEYS)
        self.arrange()

    def _value(self, rows: list[Reading]) -> str:
        """What the plan shows, and what stands at the pointer, in words."""
        frame, layers = self.work.frame, self.view.scene.layers
        if frame is None:
            return "Nothing is open."
        shown = ", ".join(layer.name for layer in layers) or "relief shading"
        across = self.work.study.telling.length_text(self.view.metres_per_pixel * self.view.width())
        at = "; ".join(f"{r.name} {r.text}" for r in rows)
        return f"{shown}; {across} across.{f' At the pointer: {at}.' if at else ''}"

    def _on_redrawn(self) -> None:
        if self._pointer is not None:
            self.read(self._pointer)
        else:
            speak(self.view, self._value([]), KEYS)

    def show_live(self, live: Live | None) -> None:
        """Draw what a bench shows for now; what has a place of its own takes that of the welcome."""
        had = self.view.live
        self.view.show_live(live)
        if not self.work.study.steps and (had is None) != (live is None):
            self._on_changed()

    def _on_changed(self) -> None:
        live = self.view.live
        empty = not self.work.study.steps and (live is None or live.box is None)
        if empty and self.welcome.isHidden():
            self.welcome.fill()
        self.welcome.setVisible(empty)
        self.tools.setVisible(bool(self.work.study.steps))
        self.arrange()

    def arrange(self) -> None:
        """Put everything in its corner."""
        w, h = self.width(), self.height()
        self.view.setGeometry(0, 0, w, h)
        if self.laid is not None:
            self.laid.setGeometry(0, 0, w, h)
        if self.views.folded != (w < _NARROW):
            self.views.fold(w < _NARROW)
            self.tools.adjustSize()
        self.tools.move(14, 12)
        self.compare.fit(w - 28)
        self.compare.move(14, self.tools.y() + self.tools.height() + 6)
        above = self.tools if self.compare.isHidden() else self.compare
        self.key.below = above.y() + above.height() + 6
        self.key.fit()
        beside = w >= _NARROW  # on a narrow plan the scale stands above the reading
        self.reading.fit(w - 190 if beside else max(w - 28, 100))
        places = [part.geometry() for part in self.view.cards if not part.isHidden()]
        # The bar comes and goes with the pointer: its room stays, or names would jump.
        foot = max(self.reading.height() if self.reading.isVisible() else 0, _READING) + 16.0
        lifted = 0.0 if beside else foot
        if (places, foot, lifted) != (self._places, self.view.foot, self.view.scale_above):
            self._places, self.view.foot, self.view.scale_above = places, foot, lifted  # names keep clear
            self.view.update()
        self.reading.move(14, h - self.reading.height() - 14)
        self.message.setMaximumWidth(max(w - 60, 100))
        self.message.adjustSize()
        self.message.move((w - self.message.width()) // 2, h - self.message.height() - 60)
        self.welcome.fit(w, h)

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Follow the window."""
        self.arrange()


def _plain(text: str) -> str:
    return text.replace("&", "&amp;").replace("<", "&lt;").replace(" ", "&nbsp;")
