"""The Key: what is drawn on the plan, in order, with opacity; it is also the legend."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from PySide6.QtCore import QPoint, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QImage, QMouseEvent, QPainter, QPaintEvent, QResizeEvent
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QFrame,
    QSizePolicy,
    QSlider,
    QVBoxLayout,
    QWidget,
)

from moss_step.desk.histogram import HistogramView
from moss_step.desk.looks.registry import look_of
from moss_step.desk.parts import Elided, Later, clear, label, line, row, scrolled, tool
from moss_step.desk.plain import set_tip
from moss_step.desk.plan.drawing import shape_color
from moss_step.desk.theme import icon
from moss_step.desk.tones import is_dark, shade
from moss_step.desk.work import Work
from moss_step.scene.colors import GROUND, INK, MUTED
from moss_step.scene.layers import Layer, front_of, replaced_by
from moss_step.scene.picture import Ramp
from moss_step.scene.pictures import has_place
from moss_step.study.graph import KeyRow, Shading, step_of

WIDTH = 232
_APART = 4
_STRIP, _HEAD, _NARROW = 112, 36, 560
_WIDE = 640
_MOST_CLASSES, _LEGEND_LINE = 14, 21


class Legend(QWidget):
    """Names with their colours, one a line; one widget for all, as a class map may have many."""

    def __init__(self, rows: list[tuple[str, str]], as_lines: bool = False) -> None:
        """Each row is a name and a colour; ``as_lines`` draws strokes instead of patches."""
        super().__init__()
        self._rows, self._as_lines = rows, as_lines
        self.setFixedHeight(_LEGEND_LINE * len(rows))
        self.setAccessibleName("Legend: " + ", ".join(name for name, _ in rows))
        set_tip(self, "\n".join(name for name, _ in rows))

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw patches and names."""
        with QPainter(self) as painter:
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            for i, (name, color) in enumerate(self._rows):
                y = i * _LEGEND_LINE
                painter.setPen(Qt.PenStyle.NoPen if self._as_lines else QColor(0, 0, 0, 50))
                painter.setBrush(QColor(color))
                if self._as_lines and is_dark():  # on the plan they lie on light ground
                    painter.fillRect(QRectF(2, y + 4, 18, 13), QColor(GROUND))
                patch = QRectF(4, y + 8.5, 14, 4) if self._as_lines else QRectF(4.5, y + 3.5, 13, 13)
                painter.drawRoundedRect(patch, 2 if self._as_lines else 3, 2 if self._as_lines else 3)
                painter.setPen(shade(INK))
                text = painter.fontMetrics().elidedText(name, Qt.TextElideMode.ElideRight, self.width() - 28)
                painter.drawText(
                    QRectF(26, y, self.width() - 26, _LEGEND_LINE), Qt.AlignmentFlag.AlignVCenter, text
                )


class RampBar(QWidget):
    """A ramp as a bar with round values along it."""

    def __init__(self, ramp: Ramp) -> None:
        super().__init__()
        self._image = QImage(ramp.colors.data, 256, 1, 768, QImage.Format.Format_RGB888).copy()
        self._marks = ramp.marks
        self.setFixedHeight(30)
        self.setAccessibleName("Ramp from " + " to ".join(ramp.ends))

    def paintEvent(self, event: QPaintEvent) -> None:
        """Draw the bar and its values."""
        with QPainter(self) as painter:
            painter.drawImage(QRectF(0, 2, self.width(), 10), self._image)
            small = painter.font()
            small.setPixelSize(11)
            painter.setFont(small)
            painter.setPen(shade(MUTED))
            taken = list[tuple[float, float]]()
            for place, text in self._marks:
                width, at = painter.fontMetrics().horizontalAdvance(text), place * self.width()
                x = min(max(at - width / 2, 0.0), max(self.width() - width, 0.0))
                painter.drawLine(
                    QPointF(min(at, self.width() - 1.0), 12), QPointF(min(at, self.width() - 1.0), 15)
                )
                if all(x > end + _APART or x + width < start - _APART for start, end in taken):
                    painter.drawText(QPoint(round(x), 26), text)
                    taken.append((x, x + width))


class RowName(Elided):
    """Name of a row of the Key; dragged up or down it takes the row along."""

    def __init__(self, text: str, role: str, dropped: Callable[[int], object]) -> None:
        super().__init__(text, role)
        self._dropped, self._from = dropped, 0
        self.setCursor(Qt.CursorShape.OpenHandCursor)
        set_tip(self, f"{text}\nDrag it to another place of the order")

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """Take the row."""
        self._from = round(event.globalPosition().y())
        self.setCursor(Qt.CursorShape.ClosedHandCursor)

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        """Let it go where it is."""
        self.setCursor(Qt.CursorShape.OpenHandCursor)
        to = round(event.globalPosition().y())
        if abs(to - self._from) > _LEGEND_LINE // 2:
            self._dropped(to)


class KeyPanel(QFrame):
    """The overlay in the plan's corner."""

    resized = Signal()

    def __init__(self, work: Work, parent: QWidget) -> None:
        super().__init__(parent)
        self.work = work
        self.setProperty("role", "card")
        self.setFixedWidth(WIDTH)
        self.setAccessibleName("Key")
        self._open = ""
        self._shown: object = None
        self._heads: dict[str, QWidget] = {}
        self._at = 0
        self._look: KeyRow | None = None
        self._stay = Later(lambda: self._scroll.verticalScrollBar().setValue(self._at), self)
        self.below = 58
        """Where it begins on a narrow plan: below the buttons."""
        outer = QVBoxLayout(self)
        outer.setContentsMargins(12, 5, 6, 8)
        outer.setSpacing(4)
        self._folded: bool | None = None
        self._fold = tool("caret-up", "Fold the Key to a strip, or open it (K)", self.fold)
        self._title = label("Key", "head")
        outer.addWidget(row(self._title, 1, self._fold))
        self._rows = QWidget()
        self._layout = QVBoxLayout(self._rows)
        self._layout.setContentsMargins(0, 0, 6, 0)
        self._layout.setSpacing(5)
        self._scroll = scrolled(self._rows)
        outer.addWidget(self._scroll)
        later = Later(self.refresh, self, after=15)
        work.published.connect(later.ask)
        self.refresh()

    @property
    def folded(self) -> bool:
        """Whether only its strip is shown: as the person wants it, else where the plan is narrow."""
        parent = self.parentWidget()
        return self._folded if self._folded is not None else parent is not None and parent.width() < _NARROW

    def fold(self) -> None:
        """Fold it to a strip, or open it."""
        self._folded = not self.folded
        self.fit()

    def refresh(self) -> None:
        """Show the Key as it is now."""
        scene = self.work.now.scene
        drawn = {layer.step: layer for layer in scene.layers}
        state = (
            self.work.study.key,
            self.work.study.shading,
            self._open,
            self.work.chosen_ref,
            self.work.now.compared,
            scene.undrawn,
            tuple((la.step, la.name, id(la.picture), la.ranges) for la in scene.layers),
            scene.telling,
            tuple(self.work.study.name_of(k.step) for k in self.work.study.key),
        )
        if state == self._shown:
            return
        if any(s.isSliderDown() for s in self.findChildren(QSlider)) or any(
            h.is_held for h in self.findChildren(HistogramView)
        ):
            return  # the control being dragged must stay; its release refreshes
        self._shown = state
        focused = self.focusWidget()
        held = focused.accessibleName() if focused is not None and focused.hasFocus() else ""
        bar = self._scroll.verticalScrollBar()
        self._at = bar.value()
        clear(self._layout)
        self._heads.clear()
        listed = {k.step for k in self.work.study.key}
        front, draft = front_of(self.work.now), self.work.draft
        replaced = replaced_by(front, draft) if draft else front
        if front in drawn and replaced not in listed and not self.work.now.compared:
            making = "being made; in view so far" if self.work.now.drawn_partly else "being made"
            self._add_row(drawn[front].row, drawn[front], making if draft else "chosen, not kept in the Key")
        for side, word in zip(self.work.now.sides, ("left", "right"), strict=False):
            for shown in side.layers[:1]:
                self._add_row(shown.row.model_copy(update={"step": f"{shown.step} "}), shown, word)
        undrawn = dict(scene.undrawn)
        for k in self.work.study.key:
            if not has_place(self.work.study, k.step):
                continue  # of an older study: nothing of it can be drawn
            layer = drawn.get(front if k.step == replaced else k.step)
            self._add_row(k, layer, undrawn.get(k.step, ""))
        if self._layout.count():
            self._layout.addWidget(line())
        self._add_shading(self.work.study.shading)
        for i in range(self._layout.count()):
            item = self._layout.itemAt(i)
            widget = item.widget() if item else None
            if widget is not None:
                widget.show()  # or it would not count in the height until later
        self._layout.addStretch(1)
        self.fit()
        if held:
            next((w.setFocus() for w in self._rows.findChildren(QWidget) if w.accessibleName() == held), None)
        self._stay.ask()
        for slider in self.findChildren(QSlider):
            slider.sliderReleased.connect(self.refresh)

    def resizeEvent(self, event: QResizeEvent) -> None:
        """Tell of it: names keep clear of the Key."""
        super().resizeEvent(event)
        self.resized.emit()

    def fit(self) -> None:
        """Take the height that the rows need, within the plan's."""
        parent = self.parentWidget()
        self._scroll.setHidden(self.folded)
        self._title.setText(f"Key · {self._layout_rows()}" if self.folded else "Key")
        self._fold.setIcon(icon("caret-down" if self.folded else "caret-up"))
        self.setFixedWidth(_STRIP if self.folded else WIDTH)
        self._layout.activate()
        wanted = _HEAD if self.folded else self._rows.sizeHint().height() + _HEAD + 8
        top = 12 if parent is None or parent.width() > _WIDE else self.below
        most = parent.height() - 72 - top if parent else wanted
        self.resize(self.width(), max(_HEAD, min(wanted, most)))
        if parent:
            self.move(parent.width() - self.width() - 14, top)
        self.setVisible(bool(self.work.study.steps))

    def _layout_rows(self) -> int:
        return len(self.work.study.key)

    def _add_row(self, key: KeyRow, layer: Layer | None, remark: str) -> None:
        in_key = any(k.step == key.step for k in self.work.study.key)
        name = layer.name if layer else self.work.study_with_draft.name_of(key.step)
        role = "head" if step_of(key.step) == self.work.chosen_id else ""
        head = RowName(name, role, partial(self._drag_to, key)) if in_key else Elided(name, role)
        if in_key:
            self._heads[key.step] = head
        parts: list[QWidget] = []
        if in_key:
            seen = tool(
                "eye" if key.shown else "eye-slash",
                f"{'Hide' if key.shown else 'Show'} {name}",
                lambda: self.set(key, f"{'Hide' if key.shown else 'Show'} {name}", shown=not key.shown),
            )
            share = label("" if key.opacity == 1.0 else f"{key.opacity:.0%}".replace("%", " %"), "muted")
            more = tool("sliders-horizontal", f"How {name} is drawn", lambda: self._toggle(key.step))
            parts = [seen, head, share, more]
        else:
            parts = [head]
        self._layout.addWidget(row(*parts, gap=4, grows=head))
        if remark:
            self._layout.addWidget(label(remark, "muted", wrap=True))
        if layer is not None and key.shown:
            self._add_legend(layer)
        if in_key and self._open == key.step:
            self._layout.addWidget(self._controls(key, layer))

    def _add_legend(self, layer: Layer) -> None:
        order = self.work.now.shape_order
        color, telling = shape_color(order.get(layer.step, 0)), self.work.study.telling
        legend = layer.picture.legend(layer.row, layer.ranges, color, telling)
        if legend.title:
            self._layout.addWidget(label(legend.title, "muted"))
        if legend.ramp is not None:
            self._layout.addWidget(RampBar(legend.ramp))
        if legend.classes:
            self._add_classes(list(legend.classes), legend.as_lines)

    def _add_classes(self, classes: list[tuple[str, str]], as_lines: bool) -> None:
        self._layout.addWidget(Legend(classes[:_MOST_CLASSES], as_lines))
        if len(classes) > _MOST_CLASSES:
            self._layout.addWidget(label(f"and {len(classes) - _MOST_CLASSES} more", "muted"))

    def _controls(self, key: KeyRow, layer: Layer | None) -> QWidget:
        box = QWidget()
        layout = QVBoxLayout(box)
        layout.setContentsMargins(0, 2, 0, 6)
        layout.setSpacing(5)
        opacity = _slider(
            "Opacity",
            0,
            100,
            round(key.opacity * 100),
            lambda v: self.set(key, "Opacity", join=True, opacity=v / 100.0),
        )
        layout.addWidget(row(label("Opacity", "muted"), opacity))
        if layer is not None and layer.ranges is None:
            controls = look_of(layer.picture).controls(self, key, layer.picture)
            if controls is not None:
                layout.addWidget(controls)
        layout.addWidget(
            row(
                tool("caret-up", "Draw it higher", lambda: self._move(key, -1)),
                tool("caret-down", "Draw it lower", lambda: self._move(key, 1)),
                tool("copy", "Copy this look", lambda: self._copy_look(key)),
                *self._given_look(key),
                1,
                tool("trash", "Take it out of the Key", lambda: self._drop(key)),
            )
        )
        return box

    def _add_shading(self, shading: Shading) -> None:
        ground = self.work.study.name_of(shading.ground) if shading.ground else "no ground"
        seen = tool(
            "eye" if shading.on else "eye-slash",
            "Relief shading on or off",
            lambda: self._shade("Shading", on=not shading.on),
        )
        text = Elided(f"Relief shading · {ground}", "muted")
        lamp = tool("sun", "Light, exaggeration and strength", lambda: self._toggle("shading"))
        self._layout.addWidget(row(seen, text, lamp, gap=4, grows=text))
        if self._open != "shading":
            return
        grounds = QComboBox()
        grounds.setAccessibleName("Shaded ground")
        for step_id in (*self.work.now.surfaces("elevation"), *self.work.study.giving("cloud")):
            grounds.addItem(self.work.study.name_of(step_id), step_id)
        grounds.setCurrentIndex(grounds.findData(shading.ground))
        grounds.currentIndexChanged.connect(
            lambda i: self._shade("Shaded ground", ground=grounds.itemData(i))
        )
        self._layout.addWidget(grounds)
        for title, field, low, high, factor in (
            ("Light from", "azimuth", 0, 360, 1.0),
            ("Light height", "altitude", 5, 90, 1.0),
            ("Exaggeration", "z_factor", 1, 100, 0.1),
            ("Strength", "strength", 0, 100, 0.01),
        ):
            value = getattr(shading, field)
            slider = _slider(
                title, low, high, round(value / factor), partial(self._slide_light, field, factor)
            )
            unit = "°" if factor == 1.0 else ""
            self._layout.addWidget(row(label(f"{title} {value:g}{unit}", "muted"), slider))

        arrows = QCheckBox("Slope arrows, heads downslope")
        arrows.setAccessibleName("Slope arrows")
        arrows.setChecked(shading.arrows)
        arrows.toggled.connect(lambda on: self._shade("Slope arrows", arrows=on))
        self._layout.addWidget(arrows)

    # --- changes

    def set(self, key: KeyRow, what: str, join: bool = False, **values: object) -> None:
        """Change a row of the Key."""
        current = self.work.study.key_row(key.step) or key
        self.work.do(self.work.study.with_key_row(current.model_copy(update=values)), what, join)

    def _slide_light(self, field: str, factor: float, value: int) -> None:
        shading = self.work.study.shading.model_copy(update={field: value * factor})
        self.work.do(self.work.study.model_copy(update={"shading": shading}), "Shading", join=True)

    def _shade(self, what: str, **values: object) -> None:
        study = self.work.study
        self.work.do(study.model_copy(update={"shading": study.shading.model_copy(update=values)}), what)

    def _move(self, key: KeyRow, by: int) -> None:
        rows = list(self.work.study.key)
        at = next(i for i, k in enumerate(rows) if k.step == key.step)
        to = min(max(at + by, 0), len(rows) - 1)
        rows.insert(to, rows.pop(at))
        self.work.do(self.work.study.model_copy(update={"key": tuple(rows)}), "Order of the Key")

    def _copy_look(self, key: KeyRow) -> None:
        """Keep how a row is drawn, for other rows to take."""
        self._look = key
        self._shown = None
        self.refresh()

    def _given_look(self, key: KeyRow) -> list[QWidget]:
        """The button that takes the copied look, where there is one of another row."""
        look = self._look
        if look is None or look.step == key.step:
            return []
        name = self.work.study.name_of(look.step) if self.work.study.has(look.step) else "another result"
        return [tool("check-circle", f"Draw it as {name}", lambda: self._use_look(key, look))]

    def _use_look(self, key: KeyRow, look: KeyRow) -> None:
        own = {"step", "shown", "hidden", "paint", "breaks"}
        values = {n: getattr(look, n) for n in KeyRow.model_fields if n not in own}
        drawn = self.work.now.picture(key.step)
        shapes = drawn.shapes if drawn is not None else None
        if shapes is None or look.column not in shapes.value.columns:
            values["column"] = key.column
        if shapes is None or look.labels not in shapes.value.columns:
            values["labels"] = key.labels
        self.set(key, "Look", **values)

    def _drag_to(self, key: KeyRow, y: int) -> None:
        """Put a row where it was dragged to, a height on the screen."""
        rows = [k for k in self.work.study.key if k.step != key.step]
        tops = [
            self._heads[k.step].mapToGlobal(self._heads[k.step].rect().center()).y()
            for k in rows
            if k.step in self._heads
        ]
        rows.insert(sum(top < y for top in tops), key)
        current = [self.work.study.key_row(k.step) or k for k in rows]
        if [k.step for k in current] != [k.step for k in self.work.study.key]:
            self.work.do(self.work.study.model_copy(update={"key": tuple(current)}), "Order of the Key")

    def _drop(self, key: KeyRow) -> None:
        rows = tuple(k for k in self.work.study.key if k.step != key.step)
        self.work.do(self.work.study.model_copy(update={"key": rows}), "Take out of the Key")

    def _toggle(self, what: str) -> None:
        self._open = "" if self._open == what else what
        self.refresh()


def _slider(name: str, low: int, high: int, value: int, moved: Callable[[int], None]) -> QSlider:
    slider = QSlider(Qt.Orientation.Horizontal)
    slider.setRange(low, high)
    slider.setValue(value)
    slider.setAccessibleName(name)
    set_tip(slider, name)
    slider.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
    slider.valueChanged.connect(moved)
    return slider
