"""Panels of earthwork whose figures and picture follow what is pulled on the plan or on a slider."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
import shapely
from PySide6.QtWidgets import QVBoxLayout

from moss_step.desk.benches.outlining import OutlinePanel
from moss_step.desk.benches.panel import finding_rows
from moss_step.desk.benches.place import Said
from moss_step.desk.controls import SliderControl
from moss_step.desk.follower import LARGE
from moss_step.desk.plan.live import Live, Preview, Veil, surface_veil
from moss_step.kinds.registry import cut_to, is_mapped
from moss_step.model.errors import MossError
from moss_step.model.frame import Frame, same_frame
from moss_step.model.outcome import Outcome, Value
from moss_step.model.progress import silent
from moss_step.model.surface import Surface
from moss_step.model.telling import Telling
from moss_step.model.tin import Tin
from moss_step.model.typed import as_kind, of_kind
from moss_step.model.words import measured
from moss_step.scene.sketch import Sketch
from moss_step.science.earthwork.meeting import laid_on
from moss_step.science.earthwork.outline import Base, Heights, Moved, Outline, base_at, rings_of
from moss_step.science.framing import round_side
from moss_step.steps.cut_fill import CutFillSettings, base_of, longer_by_slope, surface_under
from moss_step.steps.declare import Settings, extra
from moss_step.steps.moved_figures import extents, priced, volumes
from moss_step.study.told import Span

_ACROSS, _ALPHA = 220, 200
"""The most cells of the veil across, and how dense it is."""
_ALIKE = ("level", "surface")
"""Bases that are the same for every outline: the heights over them are added up once."""
_TIN_CELLS = 600_000.0
"""Cells that a TIN is read at while an outline is pulled over it."""
_ROOM = 64.0
"""Cells around an outline, and as many more as it has across, that are looked at of a large ground."""
_BEYOND = 0.25
"""Share of the relief around an outline that a slider reaches beyond it."""


class LivePanel(OutlinePanel):
    """Reckons what is asked while corners or sliders are pulled."""

    def build(self, layout: QVBoxLayout) -> None:
        """A line for what follows, above the outline."""
        self.follows = Said("", "value")
        self.follows.setAccessibleName("Cut and fill while it is dragged")
        self._gridded: tuple[tuple[object, ...], Surface] | None = None
        self._spanned: tuple[object, ...] = ()
        self._pulled = False
        layout.addWidget(self.follows)
        super().build(layout)
        self.sliders = {
            n: self.form.control(n, SliderControl)
            for n, f in self.kind.settings.listed().items()
            if extra(f, "control") == "slider"
        }
        for name, slider in self.sliders.items():
            slider.sliding.connect(lambda value, n=name: self._slide(n, value))

    def value_of(self, name: str) -> Value | None:
        """What is chosen as an input, when it is there."""
        outcome = self.work.outcome(str(self._inputs[name].currentData() or ""))
        return None if outcome is None else outcome.value

    def ground(self) -> Surface | None:
        """The grid that is chosen, when it is there."""
        return of_kind(self.value_of("surface"), Surface)

    def spans(self, surface: Surface) -> dict[str, tuple[float, float]]:
        """What each slider runs over."""
        corners = self.settings().get(self.outline)
        low, high = surface.range or (0.0, 1.0)
        if isinstance(corners, tuple) and len(corners) > 1:
            xy = np.array(corners, float)
            part = surface.frame.window((*xy.min(axis=0).tolist(), *xy.max(axis=0).tolist()))
            around = surface.values[part]
            if np.isfinite(around).any():
                least, most = float(np.nanmin(around)), float(np.nanmax(around))
                wide = _BEYOND * (most - least) + 1.0 / surface.unit.metres
                low, high = least - wide, most + wide
        return {"level": (low, high if high > low else low + 1.0)}

    def show_outcome(self) -> None:
        """The sliders run over the heights around the outline, of the ground that is chosen now."""
        self._set_spans()
        super().show_outcome()

    def _set_spans(self) -> None:
        surface = self.ground()
        now = (surface, self.settings().get(self.outline))
        if surface is not None and surface.range is not None and now != self._spanned:
            self._spanned = now
            try:
                spans = self.spans(surface)
            except MossError:
                spans = {}  # the outline lies beside the ground: the run says so
            for name, (low, high) in spans.items():
                self.sliders[name].set_range(low, high)

    def show_remarks(self, outcome: Outcome) -> None:
        """The whole is reckoned: what followed goes, but not what is pulled while an older one comes."""
        super().show_remarks(outcome)
        if not self._pulled:
            self.work.follower.drop()
            self.follows.setText("")
            self.live.emit(None)

    def update_draft(self) -> None:
        """What was pulled is let go: its whole comes."""
        self._pulled = False
        super().update_draft()

    def pull_outline(self, sketch: Sketch) -> None:
        """Reckon the outline as it is pulled."""
        if sketch.shapes:
            self._ask(sketch.shapes[-1].vertices, {})

    def _slide(self, name: str, value: float) -> None:
        """Reckon with a setting that is dragged."""
        self._ask(self.settings().get(self.outline) or (), {name: value})

    def _ask(self, corners: Any, more: dict[str, Any]) -> None:
        value = self.value_of("surface")
        if value is None or len(corners) < self.least:
            return
        given = {n: v for n, v in self.settings().items() if n != self.outline} | more
        try:
            settings = self.kind.settings.model_validate(given)
        except ValueError:
            return  # the form says what is wrong
        self._pulled = True
        work = self.question(value, np.array(corners, float), settings, self.work.study.telling)
        self.work.follower.ask(work, self._draw, LARGE + 1)

    def question(self, value: Value, corners: np.ndarray, settings: Settings, telling: Telling) -> Any:
        """Work that answers what is pulled, with a preview; it runs beside the window."""
        raise NotImplementedError

    def grid_of(self, value: Value, cell: float | None) -> Surface:
        """The ground as a grid: a cloud or TIN is brought to cells once."""
        key = (value, cell)
        if self._gridded is None or self._gridded[0] != key:
            tin = of_kind(value, Tin)
            whole = shapely.box(*((tin.box if tin is not None else None) or (0.0, 0.0, 1.0, 1.0)))
            if tin is not None and cell is None:
                cell = round_side(float(np.sqrt(max(shapely.area(whole), 1e-12) / _TIN_CELLS)))
            self._gridded = (key, surface_under(value, cell, whole, silent()))
        return self._gridded[1]

    def _draw(self, answer: Preview | MossError) -> None:
        if self._left:
            return
        if isinstance(answer, MossError):
            self.follows.setText(str(answer))
            self.live.emit(None)
            return
        self.follows.setText(answer.said)
        self.facts.show_rows(finding_rows(answer.findings, self.work.study.telling))
        self.live.emit(answer.live)

    def leave(self) -> None:
        """Draw nothing any more."""
        self.work.follower.drop()
        self.live.emit(None)
        super().leave()


class CutFillPanel(LivePanel):
    """Cut and fill inside an outline whose corners are pulled, with figures and picture that follow."""

    def build(self, layout: QVBoxLayout) -> None:
        """Sums over a base are kept from one question to the next."""
        self._ready: tuple[tuple[object, ...], Heights] | None = None
        self._laid: tuple[tuple[object, ...], np.ndarray] | None = None
        self._leans: tuple[Surface, Heights] | None = None
        self._near: tuple[tuple[Surface, Surface | None], Span, tuple[Surface, Surface | None]] | None = None
        super().build(layout)

    def question(self, value: Value, corners: np.ndarray, settings: Settings, telling: Telling) -> Any:
        """Cut and fill inside the outline."""
        asked = CutFillSettings.model_validate(settings.model_dump())
        other = of_kind(self.value_of("base"), Surface)
        return lambda: self._reckon(value, other, corners, asked, telling)

    def _reckon(
        self, value: Value, other: Surface | None, corners: np.ndarray, settings: CutFillSettings,
        telling: Telling,
    ) -> Preview:  # fmt: skip
        surface, other = self._around(self.grid_of(value, settings.cell), other, corners)
        outline = Outline(surface.frame, shapely.Polygon(corners))
        base = base_of(settings, surface, outline, self._laid_on(surface, other, settings))
        if settings.against in _ALIKE:
            moved = self._heights(surface, other, base, settings).inside(outline)
        else:
            moved = outline.moved(surface.values, base, surface.metres_per_height)
        said = f"{volumes_said(moved)} · {telling.area_text(moved.area)}"
        around = float(surface.frame.lengths(rings_of(outline.areas)).sum())
        figures = (
            *volumes([moved]), *extents([moved], self._ground_area(surface, outline), around),
            *priced(settings, [moved]),
        )  # fmt: skip
        return Preview(said, Live((), _outlined_veil(surface, outline, base)), figures)

    def _around(
        self, surface: Surface, other: Surface | None, corners: np.ndarray
    ) -> tuple[Surface, Surface | None]:
        """A ground that is mapped, and a base that lies cell on cell with it, cut to what lies around an
        outline: the same cut for as long as that is pulled within it, so that sums over it are made once.
        """
        if not is_mapped(surface):
            return surface, other
        (left, bottom), (right, top) = surface.frame.in_cells(
            np.array([corners.min(axis=0), corners.max(axis=0)])
        )
        inner = _cells(top, bottom, surface.frame.rows, 2.0), _cells(left, right, surface.frame.cols, 2.0)
        if self._near is None or self._near[0] != (surface, other) or not _holds(self._near[1], inner):
            outer = (
                _cells(top, bottom, surface.frame.rows, _ROOM + bottom - top),
                _cells(left, right, surface.frame.cols, _ROOM + right - left),
            )
            base = other
            if other is not None and same_frame(other.frame, surface.frame):
                base = as_kind(cut_to(other, *outer), Surface)
            self._near = ((surface, other), outer, (as_kind(cut_to(surface, *outer), Surface), base))
        return self._near[2]

    def _ground_area(self, surface: Surface, outline: Outline) -> float:
        """Square metres along the ground: how much longer each cell is than on the plan, added up once."""
        if self._leans is None or self._leans[0] is not surface:
            self._leans = surface, Heights(longer_by_slope(surface), 0.0)
        return self._leans[1].inside(outline).cut

    def _laid_on(
        self, surface: Surface, other: Surface | None, settings: CutFillSettings
    ) -> np.ndarray | None:
        if settings.against != "surface" or other is None:
            return None
        key = (surface, other)
        if self._laid is None or self._laid[0] != key:
            self._laid = (key, laid_on(other, surface)[0])
        return self._laid[1]

    def _heights(
        self, surface: Surface, other: Surface | None, base: Base,
        settings: CutFillSettings,
    ) -> Heights:  # fmt: skip
        key = (surface, other, settings.against, settings.level)
        if self._ready is None or self._ready[0] != key:
            self._ready = (key, Heights(surface.values, base, surface.metres_per_height))
        return self._ready[1]


def _cells(first: float, last: float, count: int, more: float) -> slice:
    """Rows or columns from one to another with so many more, as far as there are any; one at the least."""
    start = min(max(math.floor(first - more), 0), count - 1)
    return slice(start, min(max(math.ceil(last + more), start + 1), count))


def _holds(outer: Span, inner: Span) -> bool:
    """Whether a part of a grid holds another one."""
    return all(o.start <= i.start and i.stop <= o.stop for o, i in zip(outer, inner, strict=True))


def _outlined_veil(surface: Surface, outline: Outline, base: Base) -> Veil:
    """Cut and fill inside an outline in colours, on some of the cells."""
    rows, cols = outline.part
    step = max(1, max(outline.window.shape) // _ACROSS)
    r, c = np.arange(rows.start, rows.stop, step), np.arange(cols.start, cols.stop, step)
    off = surface.values[np.ix_(r, c)].astype(np.float64) - base_at(base, r, c)
    frame = surface.frame
    x, y = np.meshgrid(frame.x0 + (c + 0.5) * frame.dx, frame.y0 - (r + 0.5) * frame.dy)
    shapely.prepare(outline.areas)
    off[~shapely.contains_xy(outline.areas, x, y)] = np.nan
    x0, y0 = frame.x0 + cols.start * frame.dx, frame.y0 - rows.start * frame.dy
    thin = Frame(len(r), len(c), x0, y0, frame.dx * step, frame.dy * step, frame.crs)
    return moved_veil(Surface(off, thin, surface.unit))


def moved_veil(off: Surface) -> Veil:
    """Heights above a base in the colours of earthwork: cut on one side of none, fill on the other."""
    values = off.values
    most = float(np.nanmax(np.abs(values))) if np.isfinite(values).any() else 1.0
    return surface_veil(off, "earth", (-most, most), _ALPHA)


def volumes_said(moved: Moved) -> str:
    """Cut, fill and net in words."""
    return f"cut {measured(moved.cut)} m³ · fill {measured(moved.fill)} m³ · net {measured(moved.net)} m³"
