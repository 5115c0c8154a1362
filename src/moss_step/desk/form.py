"""A form made from a step's declared settings: one control a setting, with help, unit and limits."""

from __future__ import annotations

import types
from collections.abc import Callable, Collection, Iterable, Mapping
from typing import Any, Literal, TypeVar, Union, get_args, get_origin, overload

from pydantic.fields import FieldInfo
from PySide6.QtCore import QEvent, QObject, Qt, Signal
from PySide6.QtWidgets import (
    QAbstractSpinBox,
    QApplication,
    QComboBox,
    QLineEdit,
    QPlainTextEdit,
    QVBoxLayout,
    QWidget,
)

from moss_step.desk.controls import (
    ChoiceControl,
    Control,
    FormulaControl,
    NamesControl,
    NumberControl,
    PlacesControl,
    PointClassControl,
    SliderControl,
    SystemControl,
    TextControl,
    TickControl,
)
from moss_step.desk.criteria_rows import CriteriaControl
from moss_step.desk.folder import Folder
from moss_step.desk.observer_list import ObserversControl
from moss_step.desk.parts import More, label, row, tool
from moss_step.desk.picks import PicksControl
from moss_step.desk.plain import set_tip
from moss_step.model.typed import as_kind
from moss_step.steps.declare import Settings, extra, idle_reason, on_screen

AControl = TypeVar("AControl", bound=Control)


class Form(QWidget):
    """All settings of a step, in their declared order, each with its help."""

    changed = Signal()
    box_wanted = Signal()
    """The person wants to draw a box on the plan."""

    view_wanted = Signal()
    """The box is to be what the plan shows."""
    place_shown = Signal(float, float)
    """A place of the list is to be shown on the plan."""
    helped = Signal(str)
    """What to say of the setting that is pointed at or has the keyboard; empty for none."""

    def __init__(
        self,
        settings: type[Settings],
        more: More | None = None,
        leave_out: tuple[str, ...] = (),
        folder: Folder | None = None,
    ) -> None:
        """``more`` takes the settings that not every use needs; without it they stand with the others. Files
        are asked for in ``folder``.
        """
        super().__init__()
        self._settings, self._more, self._folder = settings, more, folder or Folder()
        self._controls: dict[str, Control] = {}
        self._holders: dict[str, QWidget] = {}
        self._inputs: tuple[str, ...] = ()
        self._hidden: set[str] = set()
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(10)
        for name, field in settings.listed().items():
            if name in leave_out:
                continue
            control = self._control(name, field)
            set_tip(control, on_screen(field.description or ""))
            self._controls[name] = control
            self._holders[name] = holder = self._titled(field, control)
            if more is not None and extra(field, "more"):
                more.add(holder)
            else:
                layout.addWidget(holder)
            control.changed.connect(self._on_changed)
            if isinstance(control, PlacesControl):
                control.shown.connect(self.place_shown)
        self._name_places()
        self._hide_idle()

    def _name_places(self) -> None:
        """Names of places are typed on the places; other names in the table of the result."""
        names = [c for c in self._controls.values() if isinstance(c, NamesControl)]
        places = [c for c in self._controls.values() if isinstance(c, PlacesControl) and not c.is_line]
        if names and places:
            names[0].stand_on(places[0])

    def values(self) -> dict[str, Any]:
        """All values that are not left to their default, and count as the others stand."""
        given = {n: c.value() for n, c in self._controls.items()}
        return {n: v for n, v in given.items() if v is not None and not self._idle(n, given)}

    def use_inputs(self, names: Iterable[str]) -> None:
        """Say which inputs are given: some settings count only with or without one."""
        self._inputs = tuple(names)
        self._hide_idle()

    def _on_changed(self) -> None:
        self._hide_idle()
        self.changed.emit()

    def _idle(self, name: str, given: Mapping[str, Any]) -> bool:
        field = self._settings.model_fields[name]
        asked = {n: (v.strip() if isinstance(v, str) else v) for n, v in given.items() if v is not None}
        return bool(idle_reason(field, asked, self._inputs))

    def _hide_idle(self) -> None:
        """Hide the settings that count for nothing as the others stand."""
        given = {n: c.value() for n, c in self._controls.items()}
        for name, holder in self._holders.items():
            apart = name in self._hidden or isinstance(self._controls[name], NamesControl)
            holder.setHidden(apart or self._idle(name, given))

    @property
    def changed_in_more(self) -> int:
        """How many of the settings that are folded away differ from their defaults, and count."""
        if self._more is None:
            return 0
        fields, given = self._settings.model_fields, {n: c.value() for n, c in self._controls.items()}
        return sum(
            bool(extra(fields[n], "more"))
            and v is not None
            and not self._idle(n, given)
            and str(v) != str(fields[n].default)
            and v != fields[n].default
            for n, v in given.items()
        )

    def set_values(self, values: Mapping[str, Any], settings: type[Settings]) -> None:
        """Show values, and the defaults of those not given."""
        for name, control in self._controls.items():
            field = settings.model_fields[name]
            control.set_value(values.get(name, None if field.is_required() else field.default))
        self._hide_idle()

    def show_some(self, names: Collection[str], values: Mapping[str, Any]) -> None:
        """Show some values, and leave the others as they stand."""
        for name in names:
            if name in self._controls and self._controls[name].value() != values.get(name):
                self._controls[name].set_value(values.get(name))
        self._hide_idle()

    def focus_first(self) -> None:
        """Give the keyboard to the first field or list that is shown."""
        for name, holder in self._holders.items():
            if holder.isHidden() or (self._more is not None and self._more.isAncestorOf(holder)):
                continue
            kinds = (QLineEdit, QComboBox, QAbstractSpinBox, QPlainTextEdit)
            fields = [w for w in self._controls[name].findChildren(QWidget) if isinstance(w, kinds)]
            if fields:
                fields[0].setFocus(Qt.FocusReason.OtherFocusReason)
                return

    def show_setting(self, name: str, shown: bool) -> None:
        """Leave out a setting that counts for nothing now, or show it again."""
        (self._hidden.discard if shown else self._hidden.add)(name)
        self._hide_idle()

    @overload
    def control(self, name: str) -> Control: ...

    @overload
    def control(self, name: str, kind: type[AControl]) -> AControl: ...

    def control(self, name: str, kind: type[Control] = Control) -> Control:
        """The control of a setting; ``kind`` is what its declaration makes of it."""
        return as_kind(self._controls[name], kind)

    def _control(self, name: str, field: FieldInfo) -> Control:
        kind, optional = _kind(field)
        title, hint = field.title or name, "as it is"
        what = extra(field, "control")
        if get_origin(kind) is Literal:
            return ChoiceControl(get_args(kind), title)
        if kind is bool:
            return TickControl(title)
        special: dict[str, Callable[[], Control]] = {
            "slider": lambda: SliderControl(title, optional),
            "formula": lambda: FormulaControl(title),
            "crs": lambda: SystemControl(title),
            "file": lambda: TextControl(
                title,
                "choose a file",
                lambda c: tool("folder-open", "Choose a file", lambda: _choose(c, self._folder)),
            ),
            "box": lambda: TextControl(
                title,
                "xmin,ymin,xmax,ymax",
                lambda _: row(
                    tool("crop", "Draw the box on the plan", self.box_wanted.emit),
                    tool("arrows-out-simple", "The part in view", self.view_wanted.emit),
                    gap=2,
                ),
            ),
            "observers": lambda: ObserversControl(title),
            "names": NamesControl,
            "criteria": lambda: CriteriaControl(title),
            "points": lambda: PlacesControl(title, "Click on the plan"),
            "outline": lambda: PlacesControl(title, "Draw it on the plan"),
            "path": lambda: PlacesControl(title, "Draw it on the plan"),
            "lasso": lambda: PlacesControl(title, "Draw around points in the section"),
            "picks": lambda: PicksControl(title),
            "point_class": lambda: PointClassControl(title),
            "line": lambda: PlacesControl(title, "Draw it on the plan", line=True),
        }
        if what in special:
            return special[what]()
        if kind in (float, int) and not optional and not field.is_required():
            return NumberControl(field, title, kind is int)
        return TextControl(title, hint)

    def _titled(self, field: FieldInfo, control: Control) -> QWidget:
        title = label(field.title or "")
        set_tip(title, on_screen(field.description or ""))
        holder = QWidget()
        layout = QVBoxLayout(holder)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(4)
        if isinstance(control, (TickControl, PicksControl)):
            layout.addWidget(control)
        elif isinstance(control, NumberControl) or (type(control) is TextControl and is_number(field)):
            if isinstance(control, TextControl):
                control.edit.setFixedWidth(96)
                control.edit.setAlignment(Qt.AlignmentFlag.AlignRight)
            layout.addWidget(row(title, 1, control))
        else:
            layout.addWidget(title)
            layout.addWidget(control)
        said = on_screen(field.description or "")
        for part in (holder, *holder.findChildren(QWidget)):
            part.setProperty("said", said)
            part.installEventFilter(self)
        return holder

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        """Say what a setting means while it is pointed at or has the keyboard."""
        if event.type() in (QEvent.Type.Enter, QEvent.Type.FocusIn):
            self.helped.emit(str(watched.property("said")))
        elif event.type() in (QEvent.Type.Leave, QEvent.Type.FocusOut):
            focused = QApplication.focusWidget()
            self.helped.emit(str(focused.property("said") or "") if focused is not None else "")
        return super().eventFilter(watched, event)


def is_number(field: FieldInfo) -> bool:
    """Whether a setting is a number, or may be left out."""
    return _kind(field)[0] in (float, int)


def _kind(field: FieldInfo) -> tuple[Any, bool]:
    kind = field.annotation
    if get_origin(kind) in (Union, types.UnionType):
        rest = [a for a in get_args(kind) if a is not type(None)]
        return rest[0], len(rest) < len(get_args(kind))
    return kind, False


def _choose(control: TextControl, folder: Folder) -> None:
    path = folder.ask_open(control, "Choose a file", held=str(control.value() or ""))
    if path is not None:
        control.fill(str(path))
