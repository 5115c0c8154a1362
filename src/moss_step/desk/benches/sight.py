"""The Sight bench: observers clicked and dragged on the plan with what they see, and sight lines pulled over
the ground.
"""

from __future__ import annotations

import numpy as np
import shapely
from PySide6.QtWidgets import QVBoxLayout, QWidget

from moss_step.desk.benches.place import PlacePanel
from moss_step.desk.benches.steps import StepBench
from moss_step.desk.chart import LineChart
from moss_step.desk.controls import PlacesControl
from moss_step.desk.follower import LARGE
from moss_step.desk.observer_list import ObserversControl
from moss_step.desk.parts import tool
from moss_step.desk.plan.live import Live, Preview, mask_veil
from moss_step.desk.plan.tools.line import Line
from moss_step.formats.vector import in_system
from moss_step.model.errors import MossError
from moss_step.model.outcome import Outcome, Value
from moss_step.model.shapes import Shapes
from moss_step.model.table import Table
from moss_step.model.typed import as_kind, of_kind
from moss_step.scene.colors import LICHEN, SLATE
from moss_step.science.sight.line import sight_line
from moss_step.science.sight.observer import Observer, Sight, prepare_sight
from moss_step.science.sight.viewshed import seen_fast
from moss_step.steps.observers import SightSettings, all_observers, blocking, sentence


class SightPanel(PlacePanel):
    """A step about sight: a click adds an observer, a drag moves one and shows at once what it sees."""

    def build(self, layout: QVBoxLayout) -> None:
        """The sentence on top; a button to begin anew."""
        self.places = "at" if "at" in self.kind.settings.model_fields else ""
        self._ready: tuple[object, Sight] | None = None
        self._preparing: object = None
        super().build(layout)
        if self.places:
            self._table = self.form.control("own", ObserversControl)
            self._table.chosen.connect(self._mark)
            self._table.take_away.connect(self._take_away)
            self._table.shown.connect(self.place_wanted)
            self._table.table_wanted.connect(self.drawer_wanted)
            self.form.show_setting("at", False)  # each is listed with what it has of its own
            self._table.clear_wanted.connect(self._clear)

    def sight(self) -> Sight | None:
        """The ground chosen, ready for previews."""
        dem = self.ground()
        if dem is None:
            return None
        given, inputs = self.settings(), self._values("dem", "obstacles", "barriers")
        key = (
            *map(id, inputs.values()),
            *(given.get(n) for n in ("curvature", "refraction", "barrier_height")),
        )
        if self._ready is not None and self._ready[0] == key:
            return self._ready[1]
        if self._preparing == key:
            return None

        def prepared() -> Sight:
            obstacles = blocking(float(given.get("barrier_height", 10.0)), inputs)
            return prepare_sight(
                dem, obstacles, bool(given.get("curvature", True)), float(given.get("refraction", 0.13))
            )

        self._preparing = key
        if dem.values.size > LARGE:
            self.work.helper.ask(prepared, lambda result: self._on_prepared(key, result))
            return None
        try:
            self._on_prepared(key, prepared())
        except MossError:
            return None
        return None if self._ready is None else self._ready[1]

    def _on_prepared(self, key: object, result: Sight | MossError) -> None:
        if not self._left and isinstance(result, Sight) and self._preparing == key:
            later = result.ground.size > LARGE
            self._ready = (key, result)
            if later:
                self.show_places()

    def load(self) -> None:
        """Show the observers of a step that is changed too."""
        super().load()
        self.show_places()

    def update_draft(self) -> None:
        """Say in words what is asked, and show where the observers stand."""
        super().update_draft()
        self.show_places()

    def show_places(self) -> None:
        """Say what is asked; list the observers, and show them on the plan."""
        if self.places:
            try:
                checked = self._checked()
            except MossError:
                self.said.setText("")
            else:
                self.said.setText(sentence(checked))
                self._list_observers(checked)
            self.handles.emit(self._at())

    def _list_observers(self, checked: SightSettings) -> None:
        """Show all observers in the table with what counts for them."""
        dem = self.ground()
        if dem is not None:
            self._table.show_observers(all_observers(checked, self._values("observers"), dem.frame))

    def use_point(self, x: float, y: float) -> bool:
        """Add an observer."""
        if not self.places:
            return False
        self._set_at([*self._at(), (x, y)])
        return True

    def drag_handle(self, number: int, x: float, y: float, ended: bool) -> None:
        """Move an observer: the preview follows, and the exact view when it rests."""
        at = self._at()
        if number >= len(at):
            return
        at[number] = (x, y)
        if ended:
            self.draw_nothing()
            self._set_at(at)
            return
        sight = self.sight()
        if sight is None:
            return
        try:
            observer = all_observers(self._checked().model_copy(update={"at": tuple(at)}), {}, sight.frame)[
                number
            ]
        except MossError as error:
            self.draw(error)
            return
        self.work.follower.ask(lambda: _seen_from(sight, observer), self.draw, sight.ground.size)

    def _checked(self) -> SightSettings:
        return as_kind(self.kind.checked(self.settings()), SightSettings)

    def needs_no_place(self) -> bool:
        """A grid of candidates needs none."""
        return bool(self.settings().get("spacing"))

    def _at(self) -> list[tuple[float, float]]:
        try:
            return [] if not self.places else [(x, y) for x, y in self._checked().at or ()]
        except MossError:
            return []

    def _set_at(self, at: list[tuple[float, float]]) -> None:
        self.form.control("at", PlacesControl).fill(tuple(self.rounded(x, y) for x, y in at) or None)

    def _clear(self) -> None:
        self._table.set_value(None)
        self._set_at([])

    def _mark(self, number: int) -> None:
        """Show on the plan whose row is chosen."""
        at = self._at()
        self.live.emit(Live((), None, (at[number],)) if number < len(at) else None)

    def _take_away(self, number: int) -> None:
        """Remove a clicked observer; one of a file stays in its file, and is switched off."""
        at = self._at()
        self.live.emit(None)
        if self._values("observers"):
            self._table.switch_off(number)
        else:
            self._table.forget(number)
            self._set_at(at[:number] + at[number + 1 :])

    def _values(self, *names: str) -> dict[str, Value]:
        """Results that are chosen as inputs and ready."""
        outcomes = {
            n: self.work.outcome(str(self._inputs[n].currentData() or "")) for n in names if n in self._inputs
        }
        return {n: o.value for n, o in outcomes.items() if o is not None}


def _seen_from(sight: Sight, observer: Observer) -> Preview:
    seen = seen_fast(sight, observer)
    asked = int(np.count_nonzero(seen != 2)) or 1
    said = f"Preview: {np.count_nonzero(seen == 1) / asked:.1%} of the ground in reach is seen."
    return Preview(
        said, Live((), mask_veil(seen == 1, sight.frame, LICHEN, 150), ((observer.x, observer.y),))
    )


class LinePanel(SightPanel):
    """A sight line that is judged while it is pulled, in the section too; one button swaps its ends."""

    cuts = True

    def line_tools(self) -> list[QWidget]:
        """Swapping the ends."""
        swap = tool("arrow-u-up-left", "Swap the ends: look from the other one (Ctrl+R)", self.swap)
        swap.setAccessibleName("Swap the ends")
        swap.setShortcut("Ctrl+R")
        return [swap]

    def pull_line(self, line: Line) -> None:
        """Draw what is seen of the line, and say whether its end is."""
        sight, given = self.sight(), self.settings()
        if sight is None:
            return
        try:
            seen = sight_line(
                sight, line[:2], line[2:], float(given["observer_height"]), float(given["target_height"])
            )
        except MossError as error:
            self.said.setText(error.on_screen(self.kind.words_of))
            self.live.emit(None)
            return
        first = seen.obstacles[0] if seen.obstacles else None
        length = self.work.study.telling.length_text
        self.said.setText(
            f"Open: {length(seen.clearance)} clear of the ground."
            if first is None
            else (
                f"Blocked from {length(first.distance)} on; its top, at {length(first.peak)}, stands "
                f"{length(first.over)} above the ray. {seen.share_seen:.0%} of the line is seen."
            )
        )
        xy = np.stack([seen.x, seen.y], axis=1)
        parts = [(xy[a : b + 1], LICHEN if seen.seen[a] else SLATE) for a, b in seen.stretches]
        self.live.emit(Live(tuple(parts), None, (line[:2],)))
        self.section.emit(seen)

    def show_places(self) -> None:
        """Judge the line as it is set, and let its ends be dragged."""
        line = self.line()
        if line is not None:
            self.handles.emit([line[:2], line[2:]])
            self.pull_line(line)

    def drag_handle(self, number: int, x: float, y: float, ended: bool) -> None:
        """Move an end."""
        line = self.line()
        if line is None:
            return
        moved = (x, y, *line[2:]) if number == 0 else (*line[:2], x, y)
        self.pull_line(moved)
        if ended:
            self.use_line(moved)

    def swap(self) -> None:
        """Look from the other end."""
        line = self.line()
        if line is not None:
            self.use_line((*line[2:], *line[:2]))

    def line(self) -> Line | None:
        """The line as it is set, or the first of a file."""
        shapes, dem = of_kind(self._values("line").get("line"), Shapes), self.ground()
        if shapes is not None and dem is not None:
            xy = shapely.get_coordinates(in_system(shapes, dem.frame.crs).geometry[0])
            return (
                (float(xy[0, 0]), float(xy[0, 1]), float(xy[-1, 0]), float(xy[-1, 1]))
                if len(xy) > 1
                else None
            )
        try:
            return getattr(self.kind.checked(self.settings()), "ends", None)
        except MossError:
            return None


class ChartedPanel(SightPanel):
    """A step whose result has a curve: it is drawn under the settings."""

    across, up = "", ""

    def build(self, layout: QVBoxLayout) -> None:
        """A chart that shows when there is a result."""
        super().build(layout)
        self.chart = LineChart(self.across, self.up)
        self.chart.setFixedHeight(150)
        self.chart.hide()
        layout.addWidget(self.chart)

    def show_remarks(self, outcome: Outcome) -> None:
        """Draw the curve."""
        super().show_remarks(outcome)
        self.chart.show_curve(*self.curve(outcome))
        self.chart.show()

    def curve(self, outcome: Outcome) -> tuple[np.ndarray, np.ndarray]:
        """Horizontal and vertical values of a result."""
        raise NotImplementedError


class BestPanel(ChartedPanel):
    """Best places, with what each adds: the curve flattens where more of them are not worth it."""

    across, up = "places", "% seen together"

    def curve(self, outcome: Outcome) -> tuple[np.ndarray, np.ndarray]:
        """Share that the first places see together, from none."""
        together = as_kind(outcome.value, Shapes).columns["share_together"]
        return np.arange(len(together) + 1), np.concatenate([[0.0], 100.0 * together])


class HorizonPanel(ChartedPanel):
    """The horizon around an observer, unrolled."""

    across, up = "bearing °", "horizon °"

    def curve(self, outcome: Outcome) -> tuple[np.ndarray, np.ndarray]:
        """Angle of the horizon by bearing."""
        columns = as_kind(outcome.value, Table).columns
        return columns["bearing"], columns["angle"]


class SightBench(StepBench):
    """Observers and sight lines."""

    name = "sight"
    usual = SightPanel
    panels = {"sight_line": LinePanel, "best_places": BestPanel, "horizon": HorizonPanel}
