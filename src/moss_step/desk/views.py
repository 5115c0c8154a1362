"""The views of the ground side by side: plan and block, table and section below; and what passes between them
and the bench that is shown.
"""

from __future__ import annotations

from collections.abc import Callable
from importlib.util import find_spec
from pathlib import Path

import shapely
from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QApplication, QSplitter, QWidget

from moss_step.desk.benches.bench import Bench
from moss_step.desk.block.view import BlockView
from moss_step.desk.parts import column
from moss_step.desk.plan.compare import DIVIDER, TWO_PLANS
from moss_step.desk.plan.live import Live
from moss_step.desk.plan.pane import PlanPane
from moss_step.desk.plan.sheet_picture import plan_picture
from moss_step.desk.plan.tools.line import Line, LineTool
from moss_step.desk.plan.tools.tool import Place
from moss_step.desk.plan.view import PlanView
from moss_step.desk.png import write_png
from moss_step.desk.section.drawer import SectionDrawer
from moss_step.desk.table.drawer import TableDrawer
from moss_step.desk.work import Work
from moss_step.scene.corridor import Beside
from moss_step.scene.layers import Scene
from moss_step.scene.snapshot import Snapshot
from moss_step.science.sight.line import SightLine

_CLICK_REACH, _NARROW = 8.0, 560
"""Pixels within which a click takes a shape, and width below which two views stand one above the other."""


def _whole(now: Snapshot) -> Scene:
    return now.scene


def _left(now: Snapshot) -> Scene:
    return now.sides[0] if now.sides else now.scene


def _right(now: Snapshot) -> Scene:
    return now.sides[1] if len(now.sides) == 2 else Scene()


def _mark(view: PlanView, place: Place | None) -> None:
    if view.isVisible():
        view.mark(None if place is None else [shapely.Point(place)])


class Views(QSplitter):
    """Plan and block above, one drawer below; ``current`` gives the bench that is shown, which what is done
    on the plan goes to first.
    """

    difference_wanted = Signal(str, object)
    """A step of a kind that tells what two results differ by is wanted, with its inputs."""
    classes_wanted = Signal(str, object)
    """Points of a cloud are to get another class: the cloud's result, and settings."""

    def __init__(self, work: Work, current: Callable[[], Bench]) -> None:
        super().__init__(Qt.Orientation.Vertical)
        self.work, self._current = work, current
        self.setChildrenCollapsible(False)
        self.plan, self.table, self.section = PlanPane(work), TableDrawer(work), SectionDrawer(work)
        self.block = BlockView(work, self.plan.view)
        self.twin = PlanView(work, leads=False)
        self.twin.setAccessibleName("Right plan")
        self.twin.gather = _right
        self._ground = QSplitter(Qt.Orientation.Horizontal)
        self._ground.setChildrenCollapsible(False)
        for part in (self.plan, self.twin, self.block):
            self._ground.addWidget(part)
        self.block.hide()
        self.twin.hide()
        self.addWidget(self._ground)
        self._lent = column()
        self._lender: QWidget | None = None
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
        self.block.clicked.connect(lambda place: self._current().use_point(*place))
        self.section.chart.clicked.connect(self._use_row)
        self.plan.views.picked.connect(self.show_view)
        self.plan.compare.way_picked.connect(self._compare_by)
        self.plan.compare.closed.connect(self.end_comparing)
        self.plan.compare.difference_wanted.connect(self.difference_wanted)
        self.work.drafted.connect(self._on_drafted)
        self.work.changed.connect(self._on_changed)
        view.moved.connect(lambda: self._move_along(view, self.twin))
        self.twin.moved.connect(lambda: self._move_along(self.twin, view))
        self.twin.pointed.connect(self._point_in_block)
        view.pointed.connect(lambda place: _mark(self.twin, place))
        for drawer in (self.table, self.section):
            drawer.marked.connect(view.mark)
        self.section.line_wanted.connect(lambda: view.use(self.cut))
        self.section.classes_wanted.connect(self.classes_wanted)
        view.redrawn.connect(self._follow_in_section)
        self.table.box_wanted.connect(view.show_box)

    def fit(self) -> None:
        """Give all bars the sizes that they need, once they have their style."""
        self.plan.fit()
        self.block.fit()

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
        bench.page_wanted.connect(self._lay)

    # --- comparing

    @property
    def comparing(self) -> bool:
        """Whether two results are drawn against each other."""
        return not self.plan.compare.isHidden()

    def begin_comparing(self) -> None:
        """Draw two results against each other."""
        if self.block.isVisible():
            self.show_view("plan")
        if not self.plan.compare.begin():
            self.plan.views.set("plan")
            self.work.message.emit("Compare needs two results that cover the ground.", True)
            return
        self.plan.views.set("compare")
        self.plan.arrange()

    def end_comparing(self) -> None:
        """Draw the study as it is."""
        if not self.comparing:
            return
        self.plan.compare.hide()
        self.twin.hide()
        view = self.plan.view
        view.divider.on, view.gather = False, _whole
        view.mark(None)
        self.work.shown.compare()
        view.regather()
        self.plan.views.set(next((n for n, d in self._drawers.items() if d.isVisible()), "plan"))

    def _compare_by(self, way: str) -> None:
        view = self.plan.view
        view.gather, view.divider.on = _left, way == DIVIDER
        self.twin.setVisible(way == TWO_PLANS)
        if way == TWO_PLANS:
            self._share_ground(1, 1, 0)
            self.twin.regather()
            self._move_along(view, self.twin)
        view.regather()
        view.draw_again()

    def _share_ground(self, *parts: int) -> None:
        """Share the room between plan, right plan and block: side by side, or one above the other."""
        upright = self.width() < _NARROW
        self._ground.setOrientation(Qt.Orientation.Vertical if upright else Qt.Orientation.Horizontal)
        whole = self._ground.height() if upright else self._ground.width()
        self._ground.setSizes([part * whole // sum(parts) for part in parts])

    def _move_along(self, mover: PlanView, other: PlanView) -> None:
        """Show in one plan what another shows."""
        if self.twin.isVisible() and not other.shows_as(mover.camera):
            other.show_camera(mover.camera.sized(other.width(), other.height()))

    def _on_drafted(self) -> None:
        if self.work.draft is not None:
            self.end_comparing()

    def _on_changed(self) -> None:
        if self.comparing and not self.work.now.compared:
            self.end_comparing()

    # --- which view is open

    def is_open(self, name: str) -> bool:
        """Whether a view beside the plan is shown."""
        return (self.block if name == "block" else self._drawers[name]).isVisible()

    def toggle(self, name: str) -> None:
        """Open a view beside the plan, or close it."""
        self.show_view("plan" if self.is_open(name) else name)

    def show_view(self, name: str) -> None:
        """Open a drawer under the plan, or the block beside it; ``plan`` closes them."""
        if name == "compare":
            self.begin_comparing()
            return
        if name == "block" and find_spec("pyvista") is None:
            self.plan.views.set("plan")
            self.work.message.emit(
                "The block is not installed: pyvista is missing. Install it: pip install 'moss-step[block]'",
                True,
            )
            return
        if name in ("plan", "block"):
            self.end_comparing()
        for key, drawer in self._drawers.items():
            drawer.setVisible(key == name)
        if name in ("plan", "block"):
            self.block.setVisible(name == "block")
        if name == "block":
            self._share_ground(1, 0, 1)
        self.plan.views.set(name)
        self.table.refresh()
        view = self.plan.view
        view.mark(None)
        view.use(None)
        if name == "section":
            view.use(self.cut)
        else:
            self.section.chart.show_table(None, [])

    def _lay(self, part: QWidget | None) -> None:
        """Lay a page of the bench over the plan; other views would show the ground beside it, and close."""
        if part is not None and part is not self.plan.laid:
            self.show_view("plan")
        self.plan.lay(part)

    def _lend(self, part: QWidget | None) -> None:
        """Show a part of the bench in a drawer of its own; one that was there goes back."""
        layout = self._lent.layout()
        while layout is not None and (item := layout.takeAt(0)) is not None:
            if (gone := item.widget()) is not None:
                gone.hide()
                gone.setParent(self._lender)
        if part is not None and layout is not None:
            self._lender = part.parentWidget()
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

    def _use_row(self, drawn: Beside, place: int) -> None:
        """The bench may want a point of a cloud that was clicked in the section."""
        self._current().use_row(drawn.step, int(drawn.rows[place]))

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

    def _follow_in_section(self) -> None:
        """The section shows what the plan draws now."""
        if self.section.isVisible():
            self.section.follow(self.plan.view.scene)

    def _point_in_block(self, place: Place | None) -> None:
        """What is under the pointer of the block is read as on the plan, and marked there."""
        self.plan.read(place)
        self.plan.view.mark(None if place is None else [shapely.Point(place)])

    # --- what a bench shows

    def _show_live(self, live: Live | None) -> None:
        """Draw what follows the pointer; along a path the section follows too."""
        self.plan.show_live(live)
        self.section.chart.show_level(None if live is None else live.level)
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

    def copy_picture(self) -> None:
        """Put the plan with its legend, scale and system on the clipboard."""
        QApplication.clipboard().setImage(plan_picture(self.plan.view))
        self.work.message.emit("The plan is on the clipboard as a picture.", False)

    def _write_picture(self, path: Path) -> None:
        picture = plan_picture(self.plan.view)
        self.work.write(lambda: write_png(picture, path), path)
