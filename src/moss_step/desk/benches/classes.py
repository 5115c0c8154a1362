"""The Classes bench: ranges on the histogram and in a table, with the area of each class as they move."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from dataclasses import replace
from pathlib import Path
from typing import Any, ClassVar

from PySide6.QtWidgets import QComboBox, QSpinBox, QVBoxLayout, QWidget
from shiboken6 import isValid

from moss_step.desk.benches.change import ChangePanel
from moss_step.desk.benches.class_table import ClassTable, Row
from moss_step.desk.benches.criteria import FormulaPanel, ThresholdPanel
from moss_step.desk.benches.criteria_panel import CriteriaPanel
from moss_step.desk.benches.panel import StepPanel, finding_rows
from moss_step.desk.benches.steps import StepBench
from moss_step.desk.histogram import HistogramView
from moss_step.desk.parts import Choices, button, label, row, tool
from moss_step.desk.plain import set_tip
from moss_step.formats.rules_csv import read_rules, write_rules
from moss_step.model.errors import MossError
from moss_step.model.outcome import Outcome
from moss_step.model.rules import Closed, Rule, RuleSet
from moss_step.model.surface import Surface
from moss_step.model.units import AREAS, HECTARE, Unit
from moss_step.scene.ramps import colors_along, ramp_names
from moss_step.science.classes.presets import PRESET_NAMES, from_breaks, preset
from moss_step.steps.classes import ClassifySettings, rows_of, rule_set

_FIRST_BOUNDS = {"degree": (0, 5, 15, 30, 40), "percent": (0, 10, 20, 30, 60)}
_COUNTED = ("equal_interval", "equal_count", "natural")
"""Ready sets of as many classes as wanted, without colours of their own."""
_FIRST_NAMES = ("Level", "Gentle", "Moderate", "Steep", "Very steep")


class ClassifyPanel(StepPanel):
    """Ranges typed or dragged; areas, shares and what is wrong with the ranges, live."""

    def build(self, layout: QVBoxLayout) -> None:
        """Histogram, ready sets, table, included end, files."""
        layout.setSpacing(4)  # the table of ranges is high
        self.closed_end: Closed = "upper"
        self._counted = ""
        self._ready: dict[str, Any] | None = None
        self._asked_for: object = None
        self.histogram, self.table = HistogramView(self.work), ClassTable()
        self.histogram.moved.connect(self.table.move_bound)
        self.histogram.added.connect(self.table.split_at)
        self.presets, self.count = QComboBox(), QSpinBox()
        self.presets.setAccessibleName("Ready set of classes")
        set_tip(self.presets, "Fill the table from a ready set")
        self.presets.addItem("Ready sets …", "")
        for key, name in PRESET_NAMES.items():
            self.presets.addItem(name, key)
        self.presets.activated.connect(lambda i: self.use_preset(str(self.presets.itemData(i))))
        self.count.setRange(2, 50)
        self.count.setValue(5)
        self.count.setSuffix(" classes")
        self.count.setFixedSize(92, 28)
        self.count.setAccessibleName("Number of classes of a ready set")
        set_tip(self.count, "How many classes equal interval, equal count and natural breaks make")
        self.count.valueChanged.connect(lambda _: self.use_preset(self._counted))
        self.table.edited.connect(self._edited)
        self.ends = Choices(
            [
                ("upper", "(a, b]", "The upper bound belongs to the class below it"),
                ("lower", "[a, b)", "The lower bound belongs to the class above it"),
            ],
            name="Included end",
        )
        self.ends.picked.connect(self._set_closed)
        self.end_text = label("", "muted", wrap=True)
        self.measure = QComboBox()
        self.measure.setAccessibleName("What is shown beside each class")
        set_tip(self.measure, "Unit of area, share or number of cells")
        for unit in AREAS:
            self.measure.addItem(unit.symbol, unit.key)
        self.measure.addItem("% of cells", "share")
        self.measure.addItem("cells", "cells")
        self.measure.setCurrentIndex(self.measure.findData(self.work.study.area_unit or HECTARE.key))
        self.measure.setFixedWidth(88)
        self.measure.currentIndexChanged.connect(lambda _: self.show_outcome())
        self._gap = button(
            "Close gaps", "Let each range begin where the one before ends", self.table.close_gaps
        )
        files = row(
            tool("plus", "Add a range", self.table.add),
            tool("folder-open", "Load ranges from a CSV file", self._load_file),
            tool("floppy-disk", "Save the ranges as a CSV file", self._save_file),
            1,
            self._gap,
            self.measure,
            gap=4,
        )
        ends = row(self.ends, self.end_text, grows=self.end_text)
        parts: tuple[QWidget, ...] = (self.histogram, row(self.presets, self.count), self.table, files, ends)
        for part in parts:
            layout.addWidget(part)

    # --- settings

    def load_settings(self, settings: dict[str, Any]) -> None:
        """Show stored ranges, or first ones that suit the surface."""
        if not settings:
            self._show_rules(self._first_rules())
            return
        checked = ClassifySettings.model_validate(settings)
        if not isinstance(checked.rules, str):
            self._show_rules(rule_set(checked.rules, checked.closed))
        else:
            self._ready = dict(settings)
            self._fill_ready()

    def show_settings(self, names: Collection[str], values: Mapping[str, Any]) -> None:
        """Ranges that an undo brings back are shown, unless others are being made."""
        if self.work.draft is None and "rules" in names:
            self.load_settings(dict(self.work.study.step(self.step_id).settings))

    def use_inputs(self, names: Iterable[str]) -> None:
        """The ranges count with any input."""

    def _fill_ready(self) -> None:
        """Show the ranges of a step that was made from a ready set, as soon as its surface is there."""
        surface = self.surface
        if self._ready is None or surface is None or self._asked_for is surface:
            return
        self._asked_for = surface
        checked = ClassifySettings.model_validate(self._ready)
        self._from_preset(str(checked.rules), surface, checked.count, checked.closed)

    def settings(self) -> dict[str, Any]:
        """The ready set that the step was made from, or the ranges as rows, and the included end."""
        if self._ready is not None:
            return self._ready
        rules = [Rule(r.low, r.high, r.code, r.name, r.color) for r in self.table.rows]
        return {"rules": rows_of(RuleSet(tuple(rules), self.closed_end).rules), "closed": self.closed_end}

    @property
    def surface(self) -> Surface | None:
        """The surface that is put in classes, when it is there."""
        source = str(self._inputs["surface"].currentData() or "")
        outcome = self.work.outcome(source) if source else None
        return outcome.of(Surface) if outcome is not None else None

    @property
    def rules(self) -> RuleSet | None:
        """The ranges as they are set; None while they cannot be used."""
        try:
            return RuleSet(
                tuple(Rule(r.low, r.high, r.code, r.name, r.color) for r in self.table.rows), self.closed_end
            )
        except MossError:
            return None

    def use_preset(self, name: str) -> None:
        """Fill the table from a ready set."""
        surface = self.surface
        self.presets.setCurrentIndex(0)
        if not name or surface is None:
            return
        self._counted = name if name in _COUNTED else ""
        self._ready = None
        self._from_preset(name, surface, self.count.value(), self.closed_end, changes=True)

    def _from_preset(
        self, name: str, surface: Surface, count: int, closed: Closed, changes: bool = False
    ) -> None:
        """Show a ready set once it is worked out; ``changes`` makes it the step's new ranges."""
        self.note.show_lines("Finding the ranges …")

        def show(result: RuleSet | MossError) -> None:
            if not isValid(self) or self._left:
                return
            if isinstance(result, MossError):
                self.note.show_lines(str(result), bad=True)
                return
            self._show_rules(self._colored(result) if changes and name in _COUNTED else result)
            if changes:
                self.update_draft()
            else:
                self.show_outcome()

        self.work.helper.ask(lambda: preset(name, surface, count, closed), show)

    def _first_rules(self) -> RuleSet:
        surface = self.surface
        if surface is None or surface.range is None:
            return from_breaks([0.0, 1.0, 2.0])
        if surface.cyclic:
            return preset("aspect_8", surface)
        bounds = _FIRST_BOUNDS.get(surface.unit.key)
        if bounds is None:
            return (
                preset("equal_interval", surface)
                if surface.range[0] < surface.range[1]
                else from_breaks([0.0, 1.0])
            )
        result = from_breaks([float(b) for b in (*bounds, bounds[-1] * 2)])
        return RuleSet(
            tuple(
                Rule(r.low, None if i == len(bounds) - 1 else r.high, r.code, _FIRST_NAMES[i], r.color)
                for i, r in enumerate(result.rules)
            )
        )

    def _colored(self, rules: RuleSet) -> RuleSet:
        """A set without colours of its own, in the ramp that the person prefers."""
        name = self.work.preferences.class_ramp
        if name not in ramp_names():
            return rules
        colors = colors_along(name, len(rules.rules))
        painted = (replace(r, color=c) for r, c in zip(rules.rules, colors, strict=True))
        return replace(rules, rules=tuple(painted))

    def _show_rules(self, rules: RuleSet) -> None:
        self.closed_end = rules.closed
        self.ends.set(rules.closed)
        self.table.show_rows([Row.of(r) for r in rules.rules])
        self._show_histogram()

    def _set_closed(self, closed: str) -> None:
        self.closed_end = "lower" if closed == "lower" else "upper"
        self._edited()

    def _edited(self) -> None:
        self._ready = None
        self._show_histogram()
        self.update_draft()

    def _show_histogram(self) -> None:
        source = str(self._inputs["surface"].currentData() or "")
        picture = self.work.picture(source) if source else None
        bins = picture.bins if picture is not None else None
        surface = self.surface
        symbol = surface.unit.symbol if surface is not None and surface.unit.symbol in ("°", "%") else ""
        self.histogram.show_values(bins, self.rules, symbol)
        upper = self.closed_end == "upper"
        wraps = self.rules is not None and self.rules.wraps
        extra = "" if wraps else "; the lowest bound too" if upper else "; the highest bound too"
        self.end_text.setText(f"{'Upper' if upper else 'Lower'} bound belongs to the class{extra}.")

    # --- results

    def show_outcome(self) -> None:
        """Bring areas and remarks up to date."""
        self._fill_ready()
        super().show_outcome()
        self._show_histogram()

    def fact_rows(self, outcome: Outcome) -> list[tuple[str, str]]:
        """The table itself shows the figures."""
        key = str(self.measure.currentData())
        self.table.show_areas(measure_texts(outcome, key), self.measure.currentText())
        return finding_rows([f for f in outcome.findings if not f.of], self.work.study.telling)

    def show_remarks(self, outcome: Outcome) -> None:
        """Name gaps, overlaps and empty classes; say so when there are none."""
        if self.rules is None:
            self.note.show_lines(
                "Finding the ranges …" if self._ready is not None else "The table is empty.", outcome.warnings
            )
            return
        problems = self.rules.problems()
        self._gap.setVisible(any(p.startswith("No class") for p in problems))
        rest = [w for w in outcome.warnings if w not in problems]
        if problems:
            self.note.show_lines(problems[0], [*problems[1:], *rest], bad=True)
        else:
            self.note.show_lines("No gaps and no overlaps.", rest)

    # --- files

    def _load_file(self) -> None:
        path = self.work.folder.ask_open(self, "Load class ranges", "Class ranges (*.csv)")
        if path is not None:
            self.load_file(path)

    def load_file(self, path: Path) -> None:
        """Fill the table from a CSV file."""
        try:
            rules = read_rules(path, self.closed_end)
        except MossError as error:
            self.work.message.emit(str(error), True)
            return
        self._show_rules(rules)
        self.update_draft()

    def _save_file(self) -> None:
        path = self.work.folder.ask_save(
            self, "Save class ranges", "classes.csv", "Class ranges (*.csv)", ".csv"
        )
        if path is not None:
            self.save_file(path)

    def save_file(self, path: Path) -> None:
        """Write the table as a CSV file."""
        try:
            if self.rules is None:
                raise MossError("The ranges cannot be saved as they are.", "Mend them first.")
            write_rules(path, self.rules)
        except MossError as error:
            self.work.message.emit(str(error), True)
            return
        self.work.message.emit(f"Ranges saved in {path.name}.", False)


def measure_texts(outcome: Outcome, key: str) -> list[tuple[str, str]]:
    """Area in a unit, share or cells of each class, as numbers beside its name; the head has the unit."""
    units: dict[str, Unit] = {u.key: u for u in AREAS}
    result = []
    for f in outcome.findings:
        if key == "share" and f.name == "share":
            result.append((f.of, f"{100.0 * f.value:.2f}"))
        elif key == "cells" and f.name == "count":
            result.append((f.of, f"{f.value:,.0f}".replace(",", " ")))
        elif key in units and f.name == "area_m2":
            result.append((f.of, area_text(f.value, units[key])))
    return result


def area_text(square_metres: float, unit: Unit) -> str:
    """An area in a unit, as a number."""
    value = square_metres / unit.factor
    digits = 0 if unit.factor == 1.0 or value >= 100_000 else 3 if unit.key == "km2" and value < 100 else 1
    return f"{value:,.{digits}f}".replace(",", " ")


class ClassesBench(StepBench):
    """Puts a surface in classes; criteria, zones and patches besides."""

    name = "classes"
    panels: ClassVar[dict[str, type[StepPanel]]] = {
        "classify": ClassifyPanel,
        "threshold": ThresholdPanel,
        "formula": FormulaPanel,
        "class_change": ChangePanel,
        "hazard": CriteriaPanel,
        "amount_inside": CriteriaPanel,
    }
