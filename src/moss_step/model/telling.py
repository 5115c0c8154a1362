"""Lengths and areas in the units in which a study tells them.

A step writes a measure into its figure as a mark, value and unit between two brackets; whoever shows the
figure has it told in the units wanted there.
"""

from __future__ import annotations

import re
from dataclasses import dataclass

from moss_step.model.findings import Finding
from moss_step.model.units import AREAS, HECTARE, LENGTHS, METRE, SQUARE_METRE, UNITS, Unit, convert
from moss_step.model.words import measured, value_text

_NUMBER = r"(-?[0-9.]+(?:e[+-]?[0-9]+)?)"
_BY_SYMBOL = {u.symbol: u for u in (*LENGTHS, *AREAS)}
_MARK = re.compile(rf"⟨{_NUMBER}(?: to {_NUMBER})? (\w+)⟩")


def mark(value: float, unit: Unit, to: float | None = None) -> str:
    """A measure within a figure, or a range of them: it is told where it is shown."""
    return f"⟨{value:.7g}{'' if to is None else f' to {to:.7g}'} {unit.key}⟩"


@dataclass(frozen=True)
class Telling:
    """Units for lengths and areas; None tells lengths as they were measured, and areas by their size."""

    length: Unit | None = None
    area: Unit | None = None

    def unit(self, unit: Unit) -> Unit:
        """The unit that values of a unit are told in; areas without a chosen one stay as they are."""
        chosen = {"length": self.length, "area": self.area}.get(unit.kind)
        return unit if chosen is None else chosen

    def factor(self, unit: Unit) -> float:
        """By what values of a unit are multiplied to be told; 1 for what is neither a length nor an area."""
        return unit.factor / self.unit(unit).factor

    def column(self, symbol: str) -> tuple[float, str]:
        """By what the numbers of a column are multiplied to be told, and the symbol that they have then."""
        unit = _BY_SYMBOL.get(symbol)
        return (1.0, symbol) if unit is None else (self.factor(unit), self.unit(unit).symbol)

    def value(self, value: float, unit: Unit, quantity: str = "") -> str:
        """Say a value with its unit."""
        if unit.kind == "area":
            return self.area_text(value * unit.factor)
        target = self.unit(unit)
        return value_text(convert(value, unit, target), target, quantity)

    def area_text(self, square_metres: float) -> str:
        """Say an area."""
        by_size = HECTARE if abs(square_metres) >= HECTARE.factor else SQUARE_METRE
        target = self.area or by_size
        return f"{measured(square_metres / target.factor)} {target.symbol}"

    def length_text(self, metres: float) -> str:
        """Say a length."""
        target = self.length or METRE
        return f"{measured(metres / target.factor)} {target.symbol}"

    def figure(self, text: str) -> str:
        """A figure with its measures told."""

        def say(match: re.Match[str]) -> str:
            unit = UNITS[match[3]]
            if unit.kind == "area":
                return self.area_text(float(match[1]) * unit.factor)
            other = self.unit(unit)
            ends = [measured(convert(float(v), unit, other)) for v in match.groups()[:2] if v is not None]
            gap = "" if other.symbol in ("°", "%", "", "?") else " "
            return f"{' – '.join(ends)}{gap}{other.symbol}".rstrip("? ")

        return _MARK.sub(say, text)


USUAL = Telling()
"""As nobody chose otherwise: on the command line and in Python."""


def finding_text(finding: Finding, telling: Telling) -> str:
    """Say a finding's value with its unit."""
    value, unit = float(finding.value), finding.unit
    if unit.kind == "share":
        return f"{value:.1%}".replace("%", " %")
    if unit.kind == "yes_no":
        return "yes" if value else "no"
    if unit.kind == "count":
        return f"{value:,.0f}".replace(",", " ")
    if unit.kind == "volume":
        return f"{measured(value)} {unit.symbol}"
    return telling.value(value, unit)
