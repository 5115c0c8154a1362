"""Class maps on the plan."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Self

import numpy as np

from moss_step.model.class_map import ClassMap
from moss_step.model.rules import RuleSet
from moss_step.model.telling import USUAL, Telling
from moss_step.scene.colors import CLEAR
from moss_step.scene.counts import shares_of
from moss_step.scene.grids import GridPicture, class_colors, halved
from moss_step.scene.kernels.paint import paint_grid
from moss_step.scene.paint import by_codes
from moss_step.scene.picture import Legend
from moss_step.study.graph import KeyRow


@dataclass(frozen=True, eq=False)
class ClassesPicture(GridPicture):
    """A class map with coarser copies."""

    kind = "classes"
    value: ClassMap
    counts: tuple[tuple[int, float, float], ...] = ()
    """Of yes and no: each with its area in square metres and share."""

    @classmethod
    def from_value(cls, value: ClassMap) -> Self:
        """Halve the codes again and again."""
        counts = shares_of(value.codes, value.frame) if value.quantity == "yes_no" else ()
        return cls(value, halved(value.codes, smooth=False), counts=counts)

    @property
    def nbytes(self) -> int:
        """Bytes beside the value's own."""
        return sum(level.nbytes for level in self.levels if level is not self.value.codes)

    def blend(
        self,
        codes: np.ndarray,
        rows: np.ndarray,
        cols: np.ndarray,
        row: KeyRow,
        ranges: RuleSet | None,
        pixels: np.ndarray,
    ) -> None:
        """Codes in the colours of its classes."""
        colors, drawn = class_colors({c.code: c.color for c in self.value.classes})
        drawn[list(row.hidden)] = False
        strength = np.uint32(round(row.opacity * 256))
        paint_grid(codes, rows, cols, by_codes(), colors, drawn, strength, pixels)

    def legend(self, row: KeyRow, ranges: RuleSet | None, color: str, telling: Telling = USUAL) -> Legend:
        """The classes in their order; of yes and no the areas and shares too."""
        hidden = set(row.hidden)
        said = {code: f" · {telling.area_text(area)} · {share:.0%}" for code, area, share in self.counts}
        return Legend(
            tuple(
                (f"{c.name}{said.get(c.code, '')}", CLEAR if c.code in hidden else c.color)
                for c in self.value.classes
            )
        )

    def text_at(self, x: float, y: float, ranges: RuleSet | None = None, telling: Telling = USUAL) -> str:
        """Name of the class."""
        cell = self.frame.cell_at(x, y)
        if cell is None:
            return "outside"
        entry = self.value.entry(int(self.value.codes[cell]))
        return entry.name if entry else "no class"
