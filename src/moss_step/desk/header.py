"""The header: mark, study, benches, state of the run, search."""

from __future__ import annotations

from functools import partial

from PySide6.QtCore import QRectF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QPainter, QPaintEvent, QResizeEvent
from PySide6.QtWidgets import QHBoxLayout, QMenu, QPushButton, QToolButton, QWidget

from moss_step.desk.benches.bench import TITLES
from moss_step.desk.parts import Elided, label
from moss_step.desk.plain import set_tip
from moss_step.desk.search import SearchBox
from moss_step.desk.theme import HEADER_HEIGHT, icon
from moss_step.desk.work import Work
from moss_step.scene.colors import (
    BADGE,
    BADGE_LIGHT,
    DEEP,
    DEEP_FAINT,
    DEEP_FIELD,
    DEEP_HOVER,
    INK,
    LICHEN,
    PAPER,
)
from moss_step.steps.catalogue import BENCHES, catalogue

_STYLE = f"""
QPushButton {{ background: transparent; border: 0; border-radius: 12px; color: {PAPER}; padding: 4px 11px;
  min-height: 16px; }}
QPushButton:hover {{ background: {DEEP_HOVER}; }}
QPushButton:checked {{ background: {LICHEN}; color: {INK}; font-weight: 600; }}
QPushButton:focus {{ border: 1px solid {LICHEN}; padding: 3px 10px; }}
QPushButton:disabled {{ color: {DEEP_FAINT}; background: transparent; }}
QLabel {{ color: {PAPER}; }}
QLineEdit {{ background: {DEEP_FIELD}; border: 1px solid {DEEP_FIELD}; color: {PAPER};
  border-radius: 5px; padding: 4px 10px; }}
QLineEdit:focus {{ border: 1px solid {LICHEN}; padding: 4px 10px; }}
QToolButton {{ color: {PAPER}; padding: 4px; }}
QToolButton:hover {{ background: {DEEP_HOVER}; }}
"""


_SEARCH = 196
_NARROW, _WIDE, _USUAL = 900, 1090, 1180
"""Widths below which the header leaves out what it can do without."""


class Mark(QWidget):
    """Three steps of moss."""

    def __init__(self) -> None:
        super().__init__()
        self.setFixedSize(32, 24)

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw the mark."""
        with QPainter(self) as painter:
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            painter.setPen(Qt.PenStyle.NoPen)
            for x, y, color in ((1, 15, BADGE), (10, 9, BADGE_LIGHT), (19, 3, LICHEN)):
                painter.setBrush(QColor(color))
                painter.drawRoundedRect(QRectF(x, y, 12, 6), 3, 3)


class Header(QWidget):
    """The strip along the top of the window."""

    bench_wanted = Signal(str)
    menu_wanted = Signal()

    def __init__(self, work: Work, search: SearchBox) -> None:
        super().__init__()
        self.work = work
        self.setFixedHeight(HEADER_HEIGHT)
        self.setStyleSheet(_STYLE)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(12, 0, 16, 0)
        layout.setSpacing(3)
        self._name = name = label("Moss Step")
        name.setStyleSheet("font-weight: 700; font-size: 15px;")
        self.study = QPushButton()
        self.study.setStyleSheet("text-align: left; padding-left: 8px;")
        self.study.setFixedWidth(172)
        set_tip(self.study, "The study: open, save, undo, recent")
        self.study.clicked.connect(self.menu_wanted)
        layout.addWidget(Mark())
        layout.addSpacing(4)
        layout.addWidget(name)
        layout.addWidget(self.study)
        layout.addSpacing(2)
        self._add_benches(layout)
        self.state = Elided("")
        self.state.setAlignment(Qt.AlignmentFlag.AlignRight)
        self.state.setAccessibleName("State of the run")
        self.stop = QToolButton()
        self.stop.setIcon(icon("stop", PAPER))
        set_tip(self.stop, "Stop what runs (Ctrl+.)")
        self.stop.setAccessibleName("Stop what runs")
        self.stop.clicked.connect(work.stop)
        self.stop.hide()
        layout.addSpacing(8)
        layout.addWidget(self.state, 1)
        layout.addWidget(self.stop)
        self._search = search
        search.setFixedWidth(_SEARCH)
        layout.addWidget(search)
        work.changed.connect(self.refresh)
        work.running.connect(self._on_running)
        work.idle.connect(self._on_idle)
        self.refresh()

    def _add_benches(self, layout: QHBoxLayout) -> None:
        """A button for each bench, and a menu of them for a narrow window."""
        self.benches: dict[str, QPushButton] = {}
        filled = {k.bench for k in catalogue().values()} | {"sheet"}
        for bench in BENCHES:
            result = QPushButton(TITLES[bench])
            result.setCheckable(True)
            result.setEnabled(bench in filled)
            set_tip(
                result,
                f"{TITLES[bench]} bench"
                if bench in filled
                else f"{TITLES[bench]}: no steps yet in this version",
            )
            result.clicked.connect(lambda _=False, b=bench: self.bench_wanted.emit(b))
            self.benches[bench] = result
            layout.addWidget(result)
        self.bench_menu = QPushButton()
        set_tip(self.bench_menu, "The benches: Ctrl+1 to Ctrl+9 turn to them")
        self.bench_menu.setStyleSheet(f"background: {LICHEN}; color: {INK}; font-weight: 600;")
        self.bench_menu.clicked.connect(self._list_benches)
        layout.addWidget(self.bench_menu)

    def minimumSizeHint(self) -> QSize:
        """Any width will do: what does not fit folds into a menu."""
        return QSize(0, HEADER_HEIGHT)

    def resizeEvent(self, event: QResizeEvent) -> None:
        """On a narrow window the name goes first, then the room around the words; at last the benches are a
        menu.
        """
        wide, usual = self.width() >= _WIDE, self.width() >= _USUAL
        narrow = self.width() < _NARROW
        self.bench_menu.setVisible(narrow)
        self._name.setVisible(wide)
        self.study.setFixedWidth(172 if wide else 120)
        self._search.setFixedWidth(_SEARCH if wide else _SEARCH // 2)
        padding = 11 if usual else 7 if wide else 4
        for result in self.benches.values():
            result.setVisible(not narrow)
            result.setStyleSheet(f"padding-left: {padding}px; padding-right: {padding}px;")
        super().resizeEvent(event)

    def mark_bench(self, bench: str) -> None:
        """Mark the bench that is shown."""
        for name, result in self.benches.items():
            result.setChecked(name == bench)
        self.bench_menu.setText(f"{TITLES[bench]} ▾")
        self.bench_menu.setAccessibleName(f"Bench: {TITLES[bench]}")

    def bench_list(self) -> QMenu:
        """Menu of the benches."""
        menu = QMenu(self)
        for name, result in self.benches.items():
            entry = menu.addAction(TITLES[name], partial(self.bench_wanted.emit, name))
            entry.setEnabled(result.isEnabled())
        return menu

    def _list_benches(self) -> None:
        self.bench_list().exec(self.mapToGlobal(self.bench_menu.geometry().bottomLeft()))

    def refresh(self) -> None:
        """Show the study's name and whether it is saved."""
        name = self.work.study.name
        text = self.study.fontMetrics().elidedText(name, Qt.TextElideMode.ElideRight, 140)
        self.study.setText(f"{text}{' •' if self.work.unsaved else ''}")
        self.study.setAccessibleName(f"Study {name}{', not saved' if self.work.unsaved else ''}")

    def _on_running(self, step_id: str, fraction: float, doing: str, left: float) -> None:
        time_left = f" · {left:.0f} s left" if left >= 1 else ""
        self.state.setText(f"{doing or 'Working'} {fraction:.0%}{time_left}".replace("%", " %"))
        self.stop.show()

    def _on_idle(self) -> None:
        self.state.setText("")
        self.stop.hide()

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw the strip's ground."""
        with QPainter(self) as painter:
            painter.fillRect(self.rect(), QColor(DEEP))
