"""The views of the ground side by side: plan and block, table and section below; and what passes between them
and the bench that is shown.
"""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import shapely
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QSplitter, QWidget

from moss_step.desk.benches.bench import Bench
from moss_step.desk.block.view import BlockView
from moss_step.desk.parts import column
from moss_step.desk.plan.live import Live
from moss_step.desk.plan.pane import PlanPane
from moss_step.desk.plan.sheet_picture import plan_picture
from moss_step.desk.plan.tools.line import Line, LineTool
from moss_step.desk.plan.tools.tool import Place
from moss_step.desk.png import write_png
from moss_step.desk.section.drawer import SectionDrawer
from moss_step.desk.table.drawer import TableDrawer
from moss_step.desk.work import Work
from moss_step.science.sight.line import SightLine

_CLICK_REACH = 8.0
"""Pixels within which a click takes a shape."""


class Views(QSplitter):
    """Plan and block above, one drawer below; ``current`` gives the bench that is shown, which what is done
    on the plan goes to first.
    """

    def __init__(self, work: Work, current: Callable[[], Bench]) -> None:
        super().__init__(Qt.Orientation.Vertical)
        self.work, self._current = work, current
        self.setChildrenCollapsible(False)
        self.plan, self.table, self.section = PlanPane(work), TableDrawer(work), SectionDrawer(work)
        self.block = BlockView(work, self.plan.view)
        self._ground = QSplitter(Qt.Orientation.Horizontal)
        self._ground.setChildrenCollapsible(False)
        for part in (self.plan, self.block):
            self._ground.addWidget(part)
        self.block.hide()
        self.addWidget(self._ground)
        self._lent = column()
        self._drawers: dict[str, QWidget] = {
            "table": self.table,
            "section": self.section,
            "lent": self._lent,
        }
        for drawer in self._drawers.values():
            self.addWidget(drawer)
            drawer.hide()
        self.setSizes([420, 200, 200, 200])
        self.cut = LineTool(once=False)
        self.cut.pulled.connect(self._pull)
        self.cut.result.connect(self._cut)
        self._connect()

    def _connect(self) -> None:
        view = self.plan.view
        view.look.result.connect(self._on_clicked)
        view.look.handle_moved.connect(lambda *moved: self._current().drag_handle(*moved))
        view.pointed.connect(lambda place: self._current().follow(place))
        view.pointed.connect(self.block.mark_place)
        self.block.pointed.connect(self._point_in_block)
        self.plan.views.picked.connect(self.show_view)
        for drawer in (self.table, self.section):
            drawer.marked.connect(view.mark)
        self.section.line_wanted.connect(lambda: view.use(self.cut))
        self.table.box_wanted.connect(view.show_box)

    def attach(self, bench: Bench) -> None:
        """Let a bench draw on the plan and take tools."""
        view = self.plan.view
        bench.tool_wanted.connect(view.use)
        bench.handles.connect(view.look.show_handles)
        bench.live.connect(self._show_live)
        bench.section.connect(self._show_sight)
        bench.section_wanted.connect(lambda: self.show_view("section"))
        bench.place_wanted.connect(view.show_place)
        bench.drawer_wanted.connect(self._lend)
        bench.picture_wanted.connect(self._write_picture)

    # --- which view is open

    def is_open(self, name: str) -> bool:
        """Whether a view beside the plan is shown."""
        return (self.block if name == "block" else self._drawers[name]).isVisible()

    def toggle(self, name: str) -> None:
        """Open a view beside the plan, or close it."""
        self.show_view("plan" if self.is_open(name) else name)

    def show_view(self, name: str) -> None:
        """Open a drawer under the plan, or the block beside it; ``plan`` closes them."""
        for key, drawer in self._drawers.items():
            drawer.setVisible(key == name)
        if name in ("plan", "block"):
            self.block.setVisible(name == "block")
        if name == "block":
            half = self._ground.width() // 2
            self._ground.setSizes([half, half])
        self.plan.views.set(name)
        self.table.refresh()
        view = self.plan.view
        view.mark(None)
        view.use(None)
        if name == "section":
            view.use(self.cut)
        else:
            self.section.chart.show_table(None, [])

    def _lend(self, part: QWidget | None) -> None:
        """Show a part of the bench in a drawer of its own; one that was there goes back."""
        layout = self._lent.layout()
        while layout is not None and (item := layout.takeAt(0)) is not None:
            if (gone := item.widget()) is not None:
                gone.setParent(None)
        if part is not None and layout is not None:
            layout.addWidget(part)
            part.show()
            self.show_view("lent")
        elif self._lent.isVisible():
            self.show_view("plan")

    # --- what is done on the plan

    def _on_clicked(self, place: Place) -> None:
        """The bench may want the place; else a click on a shape selects its row while the table is open."""
        if not self._current().use_point(*place) and self.table.isVisible():
            self.table.select_at(*place, _CLICK_REACH / self.plan.view.camera.scale)

    def _pull(self, line: Line) -> None:
        bench = self._current()
        if bench.cuts:
            bench.pull_line(line)
        else:
            self.section.show_line(line, self.plan.view.scene)

    def _cut(self, line: Line) -> None:
        bench = self._current()
        if bench.cuts:
            bench.use_line(line)
            self.plan.view.use(None)

    def _point_in_block(self, place: Place | None) -> None:
        """What is under the pointer of the block is read as on the plan, and marked there."""
        self.plan.read(place)
        self.plan.view.mark(None if place is None else [shapely.Point(place)])

    # --- what a bench shows

    def _show_live(self, live: Live | None) -> None:
        """Draw what follows the pointer; along a path the section follows too."""
        self.plan.view.show_live(live)
        if (
            live is not None
            and len(live.lines) == 1
            and self.section.isVisible()
            and not self._current().cuts
        ):
            self.section.show_path(live.lines[0][0], self.plan.view.scene)

    def _show_sight(self, seen: SightLine) -> None:
        """Show a sight line in the section while that is open."""
        if self.section.isVisible():
            self.section.show_sight(seen)

    def _write_picture(self, path: Path) -> None:
        picture = plan_picture(self.plan.view)
        self.work.write(lambda: write_png(picture, path), path)
