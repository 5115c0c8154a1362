"""How shapes are drawn: with a pen over the grids, small in the trail, and what of it can be changed in the
Key.
"""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial
from typing import TYPE_CHECKING

from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QColor, QImage, QPainter
from PySide6.QtWidgets import QComboBox, QLineEdit, QVBoxLayout, QWidget

from moss_step.desk.histogram import HistogramView
from moss_step.desk.looks.look import RATIO, Look
from moss_step.desk.numbers import listed, typed_numbers
from moss_step.desk.parts import close_column, row
from moss_step.desk.plain import set_tip
from moss_step.desk.plan.drawing import draw_shapes, shape_color
from moss_step.desk.plan.lettering import Room, take_marks, write_names
from moss_step.model.shapes import Shapes
from moss_step.scene.camera import Camera
from moss_step.scene.colors import GROUND
from moss_step.scene.grading import METHODS, column_bins, grading_of, grading_rules
from moss_step.scene.kinds.shapes import ShapesPicture
from moss_step.scene.layers import Layer
from moss_step.scene.ramps import ramp_names
from moss_step.study.graph import KeyRow

if TYPE_CHECKING:
    from moss_step.desk.plan.key import KeyPanel


class ShapesLook(Look):
    """Shapes: drawn with a pen."""

    kind = "shapes"

    def draw(self, painter: QPainter, layer: Layer, camera: Camera, color: str, flat: bool) -> None:
        """Rims, lines and marks."""
        draw_shapes(painter, layer, camera, color, flat)

    def take_marks(self, layer: Layer, camera: Camera, room: Room) -> None:
        """Marks of points."""
        take_marks(layer, camera, room)

    def write(self, painter: QPainter, layer: Layer, camera: Camera, room: Room, flat: bool) -> None:
        """Names of points, values along lines and in areas."""
        write_names(painter, layer, camera, room, flat)

    def thumbnail(self, picture: ShapesPicture, row: KeyRow, width: int, height: int) -> QImage:
        """Shapes as on a larger plan that is shown smaller, so that lines are fine."""
        layer = Layer(row.step, "", picture, row.model_copy(update={"opacity": 1.0}))
        camera = Camera().sized(round(width * RATIO), round(height * RATIO))
        image = QImage(camera.width, camera.height, QImage.Format.Format_RGB32)
        image.fill(QColor(GROUND))
        box = picture.value.box
        if box is not None:
            with QPainter(image) as painter:
                painter.setRenderHint(QPainter.RenderHint.Antialiasing)
                camera = camera.fitted(box, 0.08)
                if picture.value.kind == "points":
                    painter.setPen(Qt.PenStyle.NoPen)
                    painter.setBrush(QColor(shape_color(0)))
                    for x, y in camera.pixels(picture.points[:2000]).tolist():
                        painter.drawEllipse(QPointF(x, y), 2.5 * RATIO, 2.5 * RATIO)
                else:
                    draw_shapes(painter, layer, camera, shape_color(0))
        image.setDevicePixelRatio(RATIO)
        return image

    def controls(self, panel: KeyPanel, key: KeyRow, picture: ShapesPicture) -> QWidget:
        """Column, breaks, ramp, outline, labels and marks."""
        shapes, box = picture.value, QWidget()
        layout, choice = close_column(box), partial(_choice, panel, key)
        columns = [("one colour", ""), *((f"by {c}", c) for c in shapes.columns)]
        layout.addWidget(choice("Coloured", "column", columns))
        if key.column:
            layout.addWidget(choice("Breaks", "method", [(text, m) for m, text in METHODS.items()]))
            _add_breaks(panel, layout, key, shapes)
            counts = [(f"{n} classes", n) for n in range(2, 13)]
            layout.addWidget(choice("Number of classes", "count", counts))
            layout.addWidget(choice("Ramp", "ramp", [(n.capitalize(), n) for n in ramp_names()], "spectrum"))
        if shapes.kind == "areas":
            outlines = [("Outline dark", "own"), ("Outline as the fill", "fill"), ("No outline", "none")]
            layout.addWidget(choice("Outline", "outline", outlines))
        if shapes.kind != "points" and not (shapes.kind == "areas" and key.outline == "none"):
            widths = [("usual width", None), *((f"{w:g} px", w) for w in (0.8, 1.2, 2.0, 3.0, 5.0, 8.0))]
            layout.addWidget(choice("Width of lines", "width", widths))
        layout.addWidget(
            choice("Labels", "labels", [("own labels", ""), *((f"label {c}", c) for c in shapes.columns)])
        )
        if shapes.kind == "points":
            marks = choice(
                "Mark", "mark", [("Round", "round"), ("Square", "square"), ("Triangle", "triangle")]
            )
            sizes = choice(
                "Size of the mark", "size", [(f"{n} px", float(n)) for n in (6, 8, 10, 14, 18, 24)]
            )
            layout.addWidget(row(marks, sizes, gap=4))
        return box


def _add_breaks(panel: KeyPanel, layout: QVBoxLayout, key: KeyRow, shapes: Shapes) -> None:
    """The histogram of the column with the breaks, to drag and to type."""
    grading, bins = (
        grading_of(shapes, key),
        column_bins(shapes, key.column) if key.column in shapes.columns else None,
    )
    if grading is None or bins is None or not grading.bounds:
        return
    view = HistogramView(panel.work)
    view.show_values(bins, grading_rules(grading), "")
    view.moved.connect(partial(_move_break, panel, shapes, key.step, view))
    view.added.connect(lambda value: _set_breaks(panel, key.step, [*grading.bounds[1:-1], value]))
    view.released.connect(panel.refresh)
    layout.addWidget(view)
    edit = QLineEdit(listed([f"{b:.6g}" for b in grading.bounds[1:-1]]))
    edit.setAccessibleName("Typed breaks")
    set_tip(edit, "Bounds between classes, with commas")
    edit.editingFinished.connect(lambda: _type_breaks(panel, key.step, edit.text()))
    layout.addWidget(edit)


def _move_break(
    panel: KeyPanel, shapes: Shapes, step: str, view: HistogramView, old: float, new: float
) -> None:
    bounds = [new if b == old else b for b in view.bounds]
    _set_breaks(panel, step, bounds[1:-1] if len(bounds) > 2 else bounds)
    row_ = panel.work.study.key_row(step)
    if row_ is not None and (grading := grading_of(shapes, row_)) is not None:
        view.show_values(column_bins(shapes, row_.column), grading_rules(grading), "")


def _set_breaks(panel: KeyPanel, step: str, breaks: Sequence[float]) -> None:
    key = panel.work.study.key_row(step) or KeyRow(step=step)
    panel.set(key, "Breaks", join=True, method="typed", breaks=tuple(sorted(breaks)))


def _type_breaks(panel: KeyPanel, step: str, text: str) -> None:
    try:
        breaks = typed_numbers(text)
    except ValueError:
        panel.work.message.emit(
            f"'{text}' cannot be read as breaks: write numbers with commas or semicolons.", True
        )
        return
    key = panel.work.study.key_row(step)
    if breaks and key is not None and tuple(sorted(breaks)) != key.breaks:
        _set_breaks(panel, step, breaks)


def _choice(
    panel: KeyPanel,
    key: KeyRow,
    title: str,
    field: str,
    options: Sequence[tuple[str, object]],
    usual: object = "",
) -> QComboBox:
    box = QComboBox()
    box.setAccessibleName(title)
    set_tip(box, title)
    for text, value in options:
        box.addItem(text, value)
    box.setCurrentIndex(max(box.findData(getattr(key, field) or usual), 0))
    box.currentIndexChanged.connect(lambda i: panel.set(key, title, **{field: box.itemData(i)}))
    return box
