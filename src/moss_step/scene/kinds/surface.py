"""Surfaces on the plan: along a ramp, or by the bounds of classes that are being made."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Self

import numpy as np

from moss_step.model.class_map import NO_CLASS
from moss_step.model.rules import Region, RuleSet
from moss_step.model.surface import Surface
from moss_step.model.telling import USUAL, Telling
from moss_step.model.units import Unit
from moss_step.model.words import value_text
from moss_step.scene.camera import Camera
from moss_step.scene.colors import CLEAR
from moss_step.scene.counts import shares_of
from moss_step.scene.grids import GridPicture, by_rows, class_colors, halved, packed
from moss_step.scene.kernels.paint import paint_grid, shade_picture
from moss_step.scene.paint import ALL_DRAWN, by_ramp, by_ranges
from moss_step.scene.picture import Legend, Ramp, class_legend, round_values
from moss_step.scene.ramps import bent, ramp, usual_ramp
from moss_step.science.classes.histogram import histogram
from moss_step.science.relief.gradient import gradient_weights, light_vector
from moss_step.study.graph import KeyRow, Shading

_BY_POWERS = ("accumulation", "index")
LEAST = 1e-3
"""Lowest value that is told apart where colours follow powers of ten."""
_FLAT_COLOR = (201, 199, 188)
_MOST_COUNTS = 12
"""The highest count up to which each is told apart in the Key."""


@dataclass(frozen=True, eq=False)
class SurfacePicture(GridPicture):
    """A surface with coarser copies and its histogram."""

    kind = "surface"
    value: Surface
    counts: tuple[tuple[int, float, float], ...] = ()
    """Of a few whole counts: each with its area in square metres and share."""

    @classmethod
    def from_value(cls, value: Surface) -> Self:
        """Halve the values again and again, or their logarithms."""
        level, base = value.levelled
        finest = level.values
        if value.quantity in _BY_POWERS:
            finest = by_rows(finest, lambda some: np.log10(np.maximum(some, np.float32(LEAST))))
        levels = halved(finest, smooth=not value.cyclic and not value.whole)
        return cls(value, levels, histogram(value), base, _counts_of(value))

    @property
    def nbytes(self) -> int:
        """Bytes beside the value's own."""
        return sum(level.nbytes for level in self.levels if level is not self.value.values)

    @property
    def surface(self) -> SurfacePicture:
        """It can be shaded, read along a line and stood on."""
        return self

    @property
    def is_shade(self) -> bool:
        """A hillshade needs no shading."""
        return self.value.quantity == "shade"

    @property
    def logarithmic(self) -> bool:
        """Whether the levels hold logarithms to the base of ten: of what grows by powers downstream."""
        return self.value.quantity in _BY_POWERS

    def span(self, row: KeyRow) -> tuple[float, float]:
        """Lowest and highest value of the ramp, by the Key's range control; their logarithms where the levels
        hold logarithms.
        """
        low, high = self.value.range or (0.0, 1.0)
        if self.value.cyclic:
            return 0.0, 360.0
        if row.span == "cut" and self.bins is not None:
            low, high = self.bins.quantile(row.cut / 100.0), self.bins.quantile(1.0 - row.cut / 100.0)
        elif row.span == "typed":
            low = low if row.low is None else row.low
            high = high if row.high is None else row.high
        if self.logarithmic:
            low, high = (math.log10(max(v, LEAST)) for v in (low, high))
        return low, high if high > low else low + 1.0

    def _levelled(self, value: float) -> float:
        """A value as the levels hold it: its logarithm where they hold logarithms."""
        return float(np.log10(np.float32(max(value, LEAST)))) if self.logarithmic else value

    def colors(self, row: KeyRow) -> tuple[np.ndarray, int]:
        """Colours of the ramp (257 rows, the last for flat aspect) and the place of values below the
        range.
        """
        colors = ramp(row.ramp or usual_ramp(self.value), row.reverse)
        if row.centre is not None or row.steps:
            centre = self._levelled(row.centre) if row.centre is not None else None
            colors = bent(colors, *self.span(row), None if self.value.cyclic else centre, row.steps)
        return np.vstack([colors, np.array([_FLAT_COLOR], np.uint8)]), 256 if self.value.cyclic else 0

    def blend(
        self,
        values: np.ndarray,
        rows: np.ndarray,
        cols: np.ndarray,
        row: KeyRow,
        ranges: RuleSet | None,
        pixels: np.ndarray,
    ) -> None:
        """Values as the levels hold them, in the colours that its own have."""
        strength = np.uint32(round(row.opacity * 256))
        if ranges is not None:
            colors, drawn = class_colors({r.code: r.color for r in ranges.rules})
            bounds = (np.array(ranges.bounds) - self.base).astype(np.float32)
            how = by_ranges(bounds, ranges.lookup())
            paint_grid(values, rows, cols, how, colors, drawn, strength, pixels)
            return
        (low, high), (colors, below) = self.span(row), self.colors(row)
        clear = np.nan if row.clear is None else self._levelled(row.clear) - self.base
        how = by_ramp(low - self.base, high - self.base, below, clear)
        paint_grid(values, rows, cols, how, packed(colors), ALL_DRAWN, strength, pixels)

    def hides(self, row: KeyRow, ranges: RuleSet | None) -> bool:
        """Without holes, opaque, and every value drawn."""
        whole = self.value.valid_count == self.value.values.size
        return whole and row.opacity == 1.0 and ranges is None and row.clear is None

    def shade(self, shading: Shading, camera: Camera, ratio: float, pixels: np.ndarray) -> None:
        """Darken and lighten pixels by the light on the ground."""
        rows, cols, level = self.cells(camera, ratio)
        ax, ay = gradient_weights(self.value, shading.z_factor)
        step = 2**level
        east, north = (np.ascontiguousarray(a[::step]) / np.float32(step) for a in (ax, ay))
        light = np.array(light_vector(shading.azimuth, shading.altitude), np.float32)
        shade_picture(
            self.levels[level], rows, cols, east, north, light, np.float32(shading.strength), pixels
        )

    def legend(self, row: KeyRow, ranges: RuleSet | None, color: str, telling: Telling = USUAL) -> Legend:
        """The ramp with values, or the classes of ``ranges``."""
        if ranges is not None:
            return class_legend(ranges)
        low, high = self.span(row)
        if self.counts:
            title = "seen by" if self.value.quantity == "seen" else ""
            return Legend(tuple(self._swatches(row, low, high, telling)), title=title)
        colors = self.colors(row)[0][:256].copy()
        if self.value.cyclic:
            marks = tuple((k / 4, word) for k, word in enumerate("NESWN"))
            return Legend(ramp=Ramp(colors, marks, ("N", "N")))
        unit = telling.unit(self.value.unit)
        factor = telling.factor(self.value.unit)
        if self.logarithmic:
            low, high = (v + math.log10(factor) for v in (low, high))
            powers = [float(v) for v in range(math.ceil(low), math.floor(high) + 1)]
            places = powers or round_values(low, high)
        else:
            low, high = low * factor, high * factor
            places = round_values(low, high)
        values = [10.0**v for v in places] if self.logarithmic else places
        marks = tuple(
            ((at - low) / (high - low), _mark(v, unit)) for at, v in zip(places, values, strict=True)
        )
        ends = [10.0**v for v in (low, high)] if self.logarithmic else [low, high]
        first, last = (value_text(v, unit, self.value.quantity) for v in ends)
        return Legend(ramp=Ramp(colors, marks, (first, last)))

    def _swatches(self, row: KeyRow, low: float, high: float, telling: Telling) -> Iterator[tuple[str, str]]:
        """Each count with its area and share, in the colour that it is painted in; none where it is clear."""
        colors, seen = self.colors(row)[0], self.value.quantity == "seen"
        for count, area, share in self.counts:
            red, green, blue = colors[min(max(int((count - low) * 255.999 / (high - low)), 0), 255)]
            clear = row.clear == count
            word = ("none" if count == 0 else str(count)) if seen else ("no", "yes")[count]
            yield (
                f"{word} · {telling.area_text(area)} · {share:.0%}",
                CLEAR if clear else f"#{red:02X}{green:02X}{blue:02X}",
            )

    def text_at(self, x: float, y: float, ranges: RuleSet | None = None, telling: Telling = USUAL) -> str:
        """The value with its unit, or the class of ``ranges`` that holds it."""
        cell = self.frame.cell_at(x, y)
        if cell is None:
            return "outside"
        value = float(self.value.values[cell])
        if ranges is None or value != value:
            return telling.value(value, self.value.unit, self.value.quantity)
        held = ranges.holders(Region(value, value))
        return held[0].name if held else "no class"


def _mark(value: float, unit: Unit) -> str:
    """A round number without needless digits, and its unit."""
    number = f"{value:,.10g}".replace(",", " ") if abs(value) >= 1e-4 or value == 0 else f"{value:.0e}"
    return f"{number}{'' if unit.symbol in ('°', '%', '') else ' '}{unit.symbol}".rstrip("? ")


def _counts_of(value: Surface) -> tuple[tuple[int, float, float], ...]:
    """Whole counts of a surface with their areas and shares; none where it holds no counts, or too many."""
    if not value.whole or value.range is None or value.range[0] < 0 or value.range[1] > _MOST_COUNTS:
        return ()
    codes = np.where(np.isnan(value.values), NO_CLASS, np.nan_to_num(value.values)).astype(np.uint8)
    return shares_of(codes, value.frame)
